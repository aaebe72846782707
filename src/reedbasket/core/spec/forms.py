"""The forms for describing a source, made from the models of its kinds, so that a new kind has its form."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal, get_args, get_origin

from pydantic.fields import FieldInfo

from ..kinds import SOURCES
from .database_address import SecretName
from .fields import Model
from .kinded import SECRET, Kinded


@dataclass(frozen=True)
class FormField:
    """One field of a form.

    Attributes:
        key: of the definition.
        label: as people read it.
        example: of a value; '' for none.
        start: the initial value; None for none.
        values: the only possible ones, the default first; empty for any.
        number: an integer.
        secret: the name of a secret.
        own: the secret is initially one of the definition's own.
    """

    key: list[str]
    label: str
    example: str
    start: str | int | None
    values: list[str]
    number: bool
    secret: bool
    own: bool


@dataclass(frozen=True)
class Form:
    """One kind of source; setup: an administrator has to grant access by known statements."""

    title: str
    type: str
    setup: bool
    fields: list[FormField]


def source_forms() -> list[Form]:
    """The forms of all installed kinds of sources except connectors, servers first."""
    made = []
    for name in SOURCES.names():
        kind = SOURCES.get(name)
        definition: type[Kinded] = kind.definition
        for title, starts in definition.forms.items():
            fields = [_field(definition, key.split("."), start) for key, start in starts.items()]
            made.append(Form(title, name, any(field.own for field in fields), fields))
    return sorted(made, key=lambda form: (not form.setup, form.title))


def _field(model: type[Model], key: list[str], start: Any) -> FormField:
    found: FieldInfo | None = None
    here: Any = model
    for step in key:
        found = next(field for name, field in here.model_fields.items() if step in (name, field.alias))
        here = _plain(found.annotation)
    assert found is not None
    return FormField(
        key=key,
        label=found.title or key[-1],
        example=str((found.examples or [found.default if isinstance(found.default, str) else ""])[0]),
        start=None if start is SECRET else start,
        values=list(get_args(here)) if get_origin(here) is Literal else [],
        number=here is int,
        secret=here is SecretName,
        own=start is SECRET,
    )


def _plain(annotation: Any) -> Any:
    """X out of `X | None`."""
    inner = [one for one in get_args(annotation) if one is not type(None)]
    return inner[0] if len(inner) == 1 and get_origin(annotation) is not Literal else annotation
