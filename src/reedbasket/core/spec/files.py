"""Definitions about files: how they are read, and what happens to those that are copied."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, SerializeAsAny, field_validator, model_validator
from typing_extensions import override

from ..kinds import FORMATS
from .fields import Model, Name
from .one_of import ModelClass, OneOf

Size = Annotated[int, BeforeValidator(lambda value: parse_size(value)), Field(ge=1)]
_UNITS = {"B": 1, "kB": 10**3, "MB": 10**6, "GB": 10**9, "TB": 10**12}


def parse_size(value: Any) -> Any:
    """'2 GB' -> 2,000,000,000; B, kB, MB, GB, TB. A number is bytes.

    Raises:
        ValueError: it is not a size.
    """
    if not isinstance(value, str):
        return value
    number, unit = value.strip(), "B"
    for name in sorted(_UNITS, key=len, reverse=True):
        if number.endswith(name):
            number, unit = number.removesuffix(name).strip(), name
            break
    try:
        return int(float(number) * _UNITS[unit])
    except ValueError:
        raise ValueError(f"not a size: {value!r}; write for example 500 MB or 20 GB") from None


class FileFormat(OneOf):
    """How a file is read. Without `type`, the file's name decides. Compressed files are recognised by their names: .gz, .zst, .bz2, .xz,
    and .zip with all its members, or those that `members` names.
    """

    unnamed = True
    type: str | None = None
    members: str | None = Field(None, min_length=1, description=".zip: a pattern for the members to read")
    max_unpacked: Size | None = Field(None, description="the largest size of one file after decompression")

    @classmethod
    @override
    def member_names(cls) -> Sequence[str]:
        return FORMATS.names()

    @classmethod
    @override
    def member(cls, name: str) -> ModelClass | None:
        kind = FORMATS.find(name)
        return kind.options if kind is not None else None


def as_format(value: Any) -> Any:
    """`csv` alone as {type: csv}."""
    return {"type": value} if isinstance(value, str) else value


Format = Annotated[SerializeAsAny[FileFormat], BeforeValidator(as_format)]


class FileColumns(Model):
    """Columns that say where a record came from."""

    path: str | None = Field(None, min_length=1, description="the name of a column for the file's path")
    line: str | None = Field(None, min_length=1, description="the name of a column for the line or row in the file")
    member: str | None = Field(
        None, min_length=1, description="the name of a column for the member of an archive; null for other files"
    )


class CopyTo(Model):
    """Files that are copied as they are; `to` is a file source, in which they keep their paths."""

    to: Name
    under: str = Field("", description="a folder in it")

    @field_validator("under")
    @classmethod
    def _folder(cls, under: str) -> str:
        if under.startswith("/") or ".." in under.split("/"):
            raise ValueError("`under` is a folder below the store's own: it does not begin with /, and has no ..")
        return under.strip("/")


DerivedName = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]*$", max_length=63)]


class Derived(Model):
    """What is derived from a table once it is loaded: a query over the warehouse's tables, in its own SQL. `view` or `table` is its name;
    a table is rebuilt whenever the loaded one has changed.
    """

    view: DerivedName | None = None
    table: DerivedName | None = None
    query: str = Field(min_length=1)

    @model_validator(mode="after")
    def _consistent(self) -> Derived:
        if (self.view is None) == (self.table is None):
            raise ValueError("give either `view` or `table`, with its name")
        return self

    @property
    def name(self) -> str:
        """Its name in the warehouse."""
        return self.view or self.table or ""

    @property
    def made_as(self) -> Literal["view", "table"]:
        """Whether it is a view or a table."""
        return "view" if self.view is not None else "table"
