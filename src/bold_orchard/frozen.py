"""Frozen dataclasses whose methods are shared, not written anew for every class: a dozen then load in a millisecond."""

from __future__ import annotations

from dataclasses import MISSING, Field, dataclass, field, fields
from typing import Any, TypeVar, dataclass_transform

T = TypeVar("T")
_fields: dict[type, tuple[Field[Any], ...]] = {}


@dataclass_transform(frozen_default=True, field_specifiers=(field,))
def frozen(cls: type[T]) -> type[T]:
    """A frozen dataclass; the class derives from ``Frozen``."""
    return dataclass(init=False, repr=False, eq=False, match_args=False)(cls)


@dataclass_transform(frozen_default=True, kw_only_default=True, field_specifiers=(field,))
def keyed(cls: type[T]) -> type[T]:
    """The same with fields given by name alone, so that those with defaults may stand anywhere."""
    return dataclass(init=False, repr=False, eq=False, match_args=False, kw_only=True)(cls)


class Frozen:
    """What ``dataclass(frozen=True)`` would write: construction, equality of the compared fields, hash, repr."""

    def __init__(self, *values: Any, **named: Any) -> None:
        own = _fields_of(type(self))
        given = named | {f.name: v for f, v in zip(own, values, strict=False)} if values else dict(named)
        for f in own:
            if f.name in given:
                self.__dict__[f.name] = given.pop(f.name)
            elif f.default is not MISSING:
                self.__dict__[f.name] = f.default
            elif f.default_factory is not MISSING:
                self.__dict__[f.name] = f.default_factory()
            else:
                raise TypeError(f"{type(self).__name__} needs {f.name}")
        if given or len(values) > len(own):
            raise TypeError(f"{type(self).__name__} has no {next(iter(given), 'so many fields')}")

    def __setattr__(self, name: str, value: Any) -> None:
        raise AttributeError(f"{type(self).__name__} is frozen: {name} cannot change")

    def __eq__(self, other: object) -> bool:
        if type(self) is not type(other):
            return NotImplemented
        return _compared(self) == _compared(other)

    def __hash__(self) -> int:
        return hash(_compared(self))

    def __repr__(self) -> str:
        shown = (f"{f.name}={getattr(self, f.name)!r}" for f in _fields_of(type(self)) if f.repr)
        return f"{type(self).__qualname__}({', '.join(shown)})"


def _fields_of(cls: type) -> tuple[Field[Any], ...]:
    if cls not in _fields:
        _fields[cls] = fields(cls)
    return _fields[cls]


def _compared(one: object) -> tuple[Any, ...]:
    return tuple(one.__dict__[f.name] for f in _fields_of(type(one)) if f.compare)
