"""The definition of a MariaDB or MySQL database as a warehouse."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from ...kinds import WarehouseKind
from ...spec.warehouse import ServerWarehouse


class MysqlWarehouseDefinition(ServerWarehouse):
    """A database of a MariaDB or MySQL server as a warehouse."""

    type: Literal["mysql"]
    port: int = Field(3306, ge=1, le=65535, title="Port")


KIND = WarehouseKind("MariaDB or MySQL", MysqlWarehouseDefinition, f"{__package__}.warehouse", "mysql")
