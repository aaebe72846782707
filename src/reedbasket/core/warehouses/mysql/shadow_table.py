"""Shadow tables in MariaDB and MySQL: whether a key is repeated is asked of the key's index."""

from __future__ import annotations

from collections.abc import Sequence

import pymysql
from pymysql.constants import ER
from typing_extensions import override

from ...mysql import parts
from ...records.layout import Family
from ..loader.shadow_table import PlainShadowBuild
from ..loader.stage import OWNER
from .engine import MysqlEngine


class MysqlShadowBuild(PlainShadowBuild):
    """As any engine's."""

    def __init__(self, engine: MysqlEngine, feed: str, source_table: str) -> None:
        super().__init__(engine, feed, source_table)
        self._mysql = engine

    @override
    def _keep_newest(self, family: Family, names: Sequence[str], *, current: bool) -> list[int]:
        engine, root = self._mysql, names[0]
        try:
            if engine.index_key(root, family.key) or not self._repeated(family, root):
                if current:
                    engine.drop_key(root)
                return [0] * len(names)
        except pymysql.Error as error:
            if parts(error)[0] != ER.DUP_ENTRY:
                raise
        engine.drop_key(root)
        for name in names:
            engine.run(f"alter table {engine.table(name)} add index rb_by_owner ({OWNER.name})")
        gone = super()._keep_newest(family, names, current=current)
        for name in names:
            engine.run(f"alter table {engine.table(name)} drop index rb_by_owner")
        return gone

    def _repeated(self, family: Family, root: str) -> bool:
        engine = self._mysql
        key = engine.listed(family.key)
        return bool(engine.query(f"select 1 from {engine.table(root)} group by {key} having count(*) > 1 limit 1"))
