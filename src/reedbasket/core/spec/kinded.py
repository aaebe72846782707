"""Definitions whose `type` names their kind."""

from __future__ import annotations

from typing import Any, ClassVar, Self

from pydantic import ModelWrapValidatorHandler, field_validator, model_validator
from pydantic_core import PydanticCustomError
from typing_extensions import override

from ..kinds import Registry
from .fields import Model

# At first in a form: the name of a secret, made of the definition's own.
SECRET = object()
# Within the classes, `type` is a key of definitions.
ModelClass = type[Model]


class Kinded(Model):
    """Validation returns the model of the kind that `type` names."""

    registry: ClassVar[Registry[Any]]
    # For who describes one in a form: {what it is: {key: what stands there at first}}; None for nothing, SECRET for a secret of its own.
    forms: ClassVar[dict[str, dict[str, Any]]] = {}
    type: str | None

    @classmethod
    def _of_several(cls) -> bool:
        return "registry" in cls.__dict__

    @classmethod
    @override
    def model_for(cls, data: Any) -> ModelClass:
        kind = cls.registry.find(str(data.get("type"))) if isinstance(data, dict) else None
        return kind.definition if kind is not None else cls

    @model_validator(mode="wrap")
    @classmethod
    def _of_its_kind(cls, data: Any, handler: ModelWrapValidatorHandler[Self]) -> Self:
        model: type[Any] = cls.model_for(data) if cls._of_several() else cls
        made: Self = handler(data) if model is cls else model.model_validate(data)
        return made

    @field_validator("type")
    @classmethod
    def _installed(cls, kind: str | None) -> str | None:
        names = cls.registry.names() if cls._of_several() else [kind]
        if kind not in names:
            raise PydanticCustomError("literal_error", "there is no such kind", {"expected": ", ".join(map(str, names))})
        return kind
