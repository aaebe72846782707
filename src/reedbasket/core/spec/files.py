"""What people write of files: where a store of them is, how one is read, what becomes of those that are copied."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BeforeValidator, Field, field_validator, model_validator
from pydantic_core import PydanticCustomError

from ..kinds import FORMATS
from .fields import Model, Name

Size = Annotated[int, BeforeValidator(lambda value: parse_size(value)), Field(ge=1)]
_UNITS = {"B": 1, "kB": 10**3, "MB": 10**6, "GB": 10**9, "TB": 10**12}


def parse_size(value: Any) -> Any:
    """'2 GB' -> 2,000,000,000; B, kB, MB, GB, TB. A number is bytes. Raises ValueError."""
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


class CsvText(Model):
    """Text in lines and columns. What is not said is found in the first file and kept from then on."""

    delimiter: str | None = Field(None, min_length=1, max_length=1)
    quote: str = Field('"', min_length=1, max_length=1)
    encoding: str | None = None
    header: bool | None = Field(None, description="whether the first line names the columns")
    columns: list[str] | None = Field(None, min_length=1, description="their names, where no line of the file says them")
    decimal: Literal[".", ","] | None = None
    skip_lines: int = Field(0, ge=0, description="lines before the header, or before the first row")
    null_values: list[str] = Field(default_factory=list, description="texts beside nothing at all that stand for no value")

    @model_validator(mode="after")
    def _consistent(self) -> CsvText:
        if self.delimiter is not None and self.delimiter in (self.quote, "\n", "\r", self.decimal):
            raise ValueError("the delimiter has to be another character than the quote, the decimal mark and the line's end")
        if self.columns and self.header:
            raise ValueError("say `columns` where the file names none, and then no `header: true`")
        return self


class Sheet(Model):
    """Of a spreadsheet. sheet: its name; the first where nothing is said. cells: `B3:F200`, the first row being the header."""

    sheet: str | None = Field(None, min_length=1)
    cells: Annotated[str, Field(pattern=r"^[A-Za-z]{1,3}[0-9]*:[A-Za-z]{1,3}[0-9]*$")] | None = None


class FixedText(Model):
    """Lines of columns that each stand at the same place. columns: {name: `1-8`}, counted from 1, both ends included."""

    columns: dict[str, Annotated[str, Field(pattern=r"^[0-9]+-[0-9]*$")]] = Field(min_length=1)
    encoding: str = "utf-8"
    skip_lines: int = Field(0, ge=0)
    decimal: Literal[".", ","] = "."

    @field_validator("columns")
    @classmethod
    def _in_order(cls, columns: dict[str, str]) -> dict[str, str]:
        for name, place in columns.items():
            first, _, last = place.partition("-")
            if int(first) < 1 or (last and int(last) < int(first)):
                raise ValueError(f"{name}: {place} is no place; write first-last, counted from 1")
        return columns


def _check_format(name: str) -> str:
    if FORMATS.find(name) is None:
        raise PydanticCustomError("literal_error", "no such format", {"expected": ", ".join(FORMATS.names())})
    return name


class FileFormat(Model):
    """How a file is read. name: by the file's own name where nothing is said. packed files are opened by theirs: .gz, .zst, .bz2, .xz,
    and .zip with all its members, or those that `members` names."""

    name: Annotated[str, AfterValidator(_check_format)] | None = None
    csv: CsvText = CsvText()
    xlsx: Sheet = Sheet()
    fixed: FixedText | None = None
    records: str | None = Field(None, description="of json: the path to the list of records, as JMESPath")
    members: str | None = Field(None, min_length=1, description="of .zip: a pattern of the members to read")
    max_unpacked: Size | None = Field(None, description="the most bytes that one file may hold once it is opened")

    @model_validator(mode="after")
    def _consistent(self) -> FileFormat:
        if self.name == "fixed" and self.fixed is None:
            raise ValueError("say where the columns stand: {fixed: {columns: {id: 1-8, name: 9-30}}}")
        return self


def as_format(value: Any) -> Any:
    """`csv`, or {csv: {…}}, beside keys of the file as a whole."""
    if isinstance(value, str):
        return {"name": value}
    if isinstance(value, dict) and "name" not in value:
        named = [key for key in value if FORMATS.find(str(key)) is not None]
        if len(named) == 1:
            return {"name": named[0], **value}
    return value


Format = Annotated[FileFormat, BeforeValidator(as_format)]


class NotedColumns(Model):
    """Columns that say where a record came from."""

    file: str | None = Field(None, min_length=1, description="the name of a column for the file's path")
    line: str | None = Field(None, min_length=1, description="the name of a column for the line, or the row, in it")
    member: str | None = Field(
        None, min_length=1, description="the name of a column for the member of an archive; null elsewhere"
    )


class CopyTo(Model):
    """Files that are copied as they are. to: a source on files, into which they go under their own paths."""

    to: Name
    under: str = Field("", description="a folder there")

    @field_validator("under")
    @classmethod
    def _folder(cls, under: str) -> str:
        if under.startswith("/") or ".." in under.split("/"):
            raise ValueError("`under` is a folder below the store's own: no / at its front, and no ..")
        return under.strip("/")


class Clean(Model):
    """What is kept on top of a table once it is loaded: a query over the warehouse's tables, in its own SQL."""

    name: Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]*$", max_length=63)]
    query: str = Field(min_length=1)
    as_: Literal["view", "table"] = Field("view", alias="as", description="table: rebuilt whenever the table below has changed")
