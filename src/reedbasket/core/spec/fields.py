"""The types of values in definitions, and the base of all models. A key that a model does not have is a mistake."""

from __future__ import annotations

import re
from typing import Annotated, Any
from zoneinfo import available_timezones

import jmespath
from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field, WithJsonSchema

from . import template

_LONGEST_TEMPLATE = 20_000


def check_name(text: str) -> str:
    """Check a name.

    Raises:
        ValueError: it is not valid.
    """
    if not re.fullmatch(r"[a-z][a-z0-9_-]{0,62}", text):
        raise ValueError(
            "a name consists of lower case letters, digits, - and _, begins with a letter, and has at most 63 characters"
        )
    return text


def _check_template(text: str) -> str:
    if len(text) > _LONGEST_TEMPLATE:
        raise ValueError(f"it has {len(text):,} characters; a template may have at most {_LONGEST_TEMPLATE:,}")
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
        raise ValueError(f"found {zone!r}, which is not a time zone; write for example Europe/Paris or UTC")
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
    """The base of all parts of a definition: unknown keys are mistakes."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True, validate_default=True)

    @classmethod
    def model_for(cls, data: Any) -> type[Model]:
        """The model that some data is meant for: this one, or the one of the kind that the data names."""
        return cls

    @classmethod
    def known_keys(cls) -> list[str]:
        """All keys."""
        return [field.alias or name for name, field in cls.model_fields.items()]
