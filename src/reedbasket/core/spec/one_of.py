"""Several models, one of which is named by a key in the data."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Sequence
from typing import Any, ClassVar, Self

from pydantic import GetJsonSchemaHandler, ModelWrapValidatorHandler, model_validator
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import CoreSchema, PydanticCustomError
from typing_extensions import override

from .fields import Model

# Within the classes, `type` is a key of definitions.
ModelClass = type[Model]


class OneOf(Model):
    """A family is a direct subclass; its members are subclasses of that. Validation of a family returns the member that is named."""

    # The key that names the member.
    named_by: ClassVar[str] = "type"
    # Whether the key may be left out: the family itself is meant then.
    unnamed: ClassVar[bool] = False

    @classmethod
    @abstractmethod
    def member_names(cls) -> Sequence[str]:
        """All values of the key, sorted."""

    @classmethod
    @abstractmethod
    def member(cls, name: str) -> ModelClass | None:
        """The model of that name; None if there is none."""

    @classmethod
    def _is_family(cls) -> bool:
        return OneOf in cls.__bases__

    @classmethod
    @override
    def model_for(cls, data: Any) -> ModelClass:
        if not cls._is_family() or not isinstance(data, dict):
            return cls
        return cls.member(str(data.get(cls.named_by))) or cls

    @model_validator(mode="wrap")
    @classmethod
    def _as_named(cls, data: Any, handler: ModelWrapValidatorHandler[Self]) -> Self:
        if not cls._is_family() or not isinstance(data, dict):
            return handler(data)
        model: type[Any] = cls.model_for(data)
        if model is not cls:
            made: Self = model.model_validate(data)
            return made
        named = {"key": cls.named_by, "expected": ", ".join(cls.member_names())}
        if cls.named_by not in data:
            if cls.unnamed:
                return handler(data)
            raise PydanticCustomError("member_not_named", "the key `{key}` is missing; allowed: {expected}", named)
        raise PydanticCustomError(
            "no_such_member", "`{key}` is not one of {expected}", {**named, "found": str(data[cls.named_by])}
        )

    @classmethod
    @override
    def __get_pydantic_json_schema__(cls, core_schema: CoreSchema, handler: GetJsonSchemaHandler) -> JsonSchemaValue:
        if not cls._is_family():
            return handler(core_schema)
        models = dict.fromkeys(cls.member(name) for name in cls.member_names())
        schemas = [handler(model.__pydantic_core_schema__) for model in models if model is not None]
        return {"anyOf": [*schemas, *([handler(core_schema)] if cls.unnamed else [])]}
