"""The kinds of values that definitions hold, and the model they all are. A key not named in a model is a mistake."""

from __future__ import annotations

import re
from typing import Annotated, Any
from zoneinfo import available_timezones

import jmespath
from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field, WithJsonSchema

from . import template

_LONGEST_TEMPLATE = 20_000


def check_name(text: str) -> str:
    """Raises ValueError for what is no name."""
    if not re.fullmatch(r"[a-z][a-z0-9_-]{0,62}", text):
        raise ValueError("a name is lower case: letters, digits, - and _, from a letter, at most 63")
    return text


def _check_template(text: str) -> str:
    if len(text) > _LONGEST_TEMPLATE:
        raise ValueError(f"it is {len(text):,} letters long; a template has at most {_LONGEST_TEMPLATE:,}")
    template.parse(text)
    return text


def _check_path(text: str) -> str:
    try:
        jmespath.compile(text)
    except jmespath.exceptions.JMESPathError as error:
        raise ValueError(f"not a JMESPath expression: {str(error).splitlines()[0]}") from None
    return text


def _check_zone(zone: str) -> str:
    if zone != "UTC" and zone not in available_timezones():
        raise ValueError(f"found {zone!r}, which is no time zone; Europe/Paris is one, and UTC")
    return zone


def scalar_text(value: Any) -> Any:
    """Numbers and booleans as the text that they are in YAML."""
    if isinstance(value, bool):
        return "true" if value else "false"
    return str(value) if isinstance(value, int | float) else value


def one_or_many(value: Any) -> Any:
    """A single text as a list of one."""
    return [value] if isinstance(value, str) else value


Name = Annotated[str, AfterValidator(check_name)]
Zone = Annotated[str, AfterValidator(_check_zone)]
# The JSON Schemas say what may be written, which is more than what comes out of validation.
Template = Annotated[
    str,
    BeforeValidator(scalar_text),
    AfterValidator(_check_template),
    WithJsonSchema({"type": ["string", "number", "boolean"]}),
]
RecordsPath = Annotated[str, AfterValidator(_check_path)]
Prefix = Annotated[str, Field(pattern=r"^([a-z][a-z0-9_]*)?$", max_length=40)]
# A column of ours to be, in a warehouse.
ColumnName = Annotated[str, Field(pattern=r"^([a-z][a-z0-9_]*\.)*[a-z][a-z0-9_]*$", max_length=63)]
ColumnList = Annotated[
    list[str],
    BeforeValidator(one_or_many),
    WithJsonSchema({"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}]}),
]
# Several values for one name of a request, or one.
Values = Annotated[
    list[Template],
    BeforeValidator(one_or_many),
    Field(min_length=1),
    WithJsonSchema({"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": ["string", "number"]}, "minItems": 1}]}),
]
KeyColumns = Annotated[
    list[str],
    BeforeValidator(one_or_many),
    Field(min_length=1),
    WithJsonSchema({"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}, "minItems": 1}]}),
]


class Model(BaseModel):
    """What all parts of a definition have in common: unknown keys are mistakes."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True, validate_default=True)

    @classmethod
    def model_for(cls, data: Any) -> type[Model]:
        """The model that is meant where something is written: this one, or of a kind that the data names."""
        return cls

    @classmethod
    def known_keys(cls) -> list[str]:
        """All that may be written there."""
        return [field.alias or name for name, field in cls.model_fields.items()]
