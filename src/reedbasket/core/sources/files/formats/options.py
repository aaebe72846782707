"""The options of each shipped format: how its files are written. Imports no library that reads them."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, field_validator, model_validator

from ....spec.files import FileFormat


class CsvFormat(FileFormat):
    """Delimited text. Whatever is not given is detected in the first file, and kept from then on."""

    type: Literal["csv"] = "csv"
    delimiter: str | None = Field(None, min_length=1, max_length=1)
    quote: str = Field('"', min_length=1, max_length=1)
    encoding: str | None = None
    header: bool | None = Field(None, description="whether the first line is a header")
    columns: list[str] | None = Field(None, min_length=1, description="the columns' names, if the file has no header")
    decimal: Literal[".", ","] | None = None
    skip_lines: int = Field(0, ge=0, description="lines before the header, or before the first row")
    null_values: list[str] = Field(default_factory=list, description="texts that mean null, besides an empty value")

    @model_validator(mode="after")
    def _consistent(self) -> CsvFormat:
        if self.delimiter is not None and self.delimiter in (self.quote, "\n", "\r", self.decimal):
            raise ValueError("the delimiter must differ from the quote, the decimal mark and the line break")
        if self.columns and self.header:
            raise ValueError("give `columns` if the file has no header, and then not `header: true`")
        return self


class SheetFormat(FileFormat):
    """A spreadsheet.

    Attributes:
        sheet: its name; the first sheet if not given.
        cells: `B3:F200`, whose first row is the header.
    """

    type: Literal["xlsx"] = "xlsx"
    sheet: str | None = Field(None, min_length=1)
    cells: Annotated[str, Field(pattern=r"^[A-Za-z]{1,3}[0-9]*:[A-Za-z]{1,3}[0-9]*$")] | None = None


class FixedFormat(FileFormat):
    """Fixed-width text.

    Attributes:
        columns: {name: `1-8`}, counted from 1, both ends included.
    """

    type: Literal["fixed"] = "fixed"
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
                raise ValueError(f"{name}: {place} is not a place; write first-last, counted from 1")
        return columns


class JsonFormat(FileFormat):
    """One JSON document."""

    type: Literal["json"] = "json"
    records: str | None = Field(None, description="the path to the list of records, as JMESPath")


class PlainFormat(FileFormat):
    """A format without options."""

    type: Literal["arrow", "ndjson", "parquet"]
