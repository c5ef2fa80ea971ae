"""The typed contract: frozen dataclasses that turn into the JSON of a command and come back from it."""

from __future__ import annotations

import dataclasses
import types
import typing
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar, Self, Union, get_args, get_origin

from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.results.plain import plain

Number = float | None
Interval = list[Number] | None
Row = dict[str, Any]


class Absent:
    """The value of a key that does not stand in the document at all."""

    def __bool__(self) -> bool:
        return False

    def __repr__(self) -> str:
        return "ABSENT"

    def __reduce__(self) -> str:
        return "ABSENT"  # the one there is, in a copy or another process too


ABSENT: Any = Absent()
# of fields that a picture needs and the document does not hold
BESIDE = {"beside": True}
_known: dict[type, dict[str, Any]] = {}
Converter = Callable[[Any], Any]
_plans: dict[type, list[tuple[str, str, bool, Converter | None]]] = {}


@dataclass(frozen=True)
class Part:
    """One object of a document; keys stand in the order of the fields."""

    def to_dict(self) -> Row:
        """Plain dictionaries, lists, numbers and texts; null for what does not exist."""
        return {key: plain(value) for key, value in self.items()}

    def items(self) -> Iterator[tuple[str, Any]]:
        """Keys that stand in the document, with the fields' values."""
        for name, key, _, _ in _plan(type(self)):
            value = getattr(self, name)
            if value is not ABSENT:
                yield key, value

    @classmethod
    def from_dict(cls, document: Row) -> Self:
        """The object that made the dictionary. Raises OrchardError for keys that are missing or unknown."""
        given = dict(document)
        made: dict[str, Any] = {}
        for name, key, needed, convert in _plan(cls):
            if key in given:
                value = given.pop(key)
                made[name] = value if convert is None else convert(value)
            elif needed:
                raise OrchardError(f"a {cls.__name__} needs the key '{key}'")
        if given:
            raise OrchardError(f"a {cls.__name__} has no key '{next(iter(given))}'")
        return cls(**made)

    def with_keys(self, **values: Any) -> Self:
        """The same with some fields changed."""
        return dataclasses.replace(self, **values)


@dataclass(frozen=True)
class Origin(Part):
    """The file of draws from which an answer was made, where it was made from a posterior."""

    file: str
    chains: int
    draws: int


@dataclass(frozen=True)
class Result(Part):
    """The answer of one command. ``command`` names it, ``main`` the field that holds its main table."""

    command: ClassVar[str] = ""
    main: ClassVar[str] = ""

    @property
    def document(self) -> Row:
        """The JSON contract."""
        return {key: self[key] for key in self._fields if key in self}

    @cached_property
    def _fields(self) -> dict[str, str]:
        """The field of every key."""
        return {key: name for name, key, _, _ in _plan(type(self))}

    @cached_property
    def _made(self) -> Row:
        """Values of the document, each made when it is first asked for."""
        return {}

    def __getitem__(self, key: str) -> Any:
        if key not in self._made:
            value = getattr(self, self._fields[key])
            if value is ABSENT:
                raise KeyError(key)
            self._made[key] = plain(value)
        return self._made[key]

    def __contains__(self, key: object) -> bool:
        return key in self._fields and getattr(self, self._fields[str(key)]) is not ABSENT

    def get(self, key: str, default: Any = None) -> Any:
        """A value of the document, or the default where the key does not stand in it."""
        if key not in self:
            return default
        return self[key]

    def with_keys(self, **values: Any) -> Self:
        made = super().with_keys(**values)
        made._made.update({k: v for k, v in self._made.items() if self._fields[k] not in values})
        return made

    def table(self, **view: bool) -> list[Row]:
        """The main table, flat: what ``--csv`` writes."""
        return self.rows_of(self.main)

    def rows_of(self, name: str) -> list[Row]:
        """Another list of the document by its key, flat. Raises UsageError for a name that is no list."""
        rows = self.get(name)
        if not isinstance(rows, list):
            lists = [k for k, v in self.document.items() if isinstance(v, list)]
            raise UsageError(f"the answer of {self.command} has no table '{name}'; there are: {', '.join(lists)}")
        return [flat(r) if isinstance(r, dict) else {name: r} for r in rows]

    def to_frame(self, name: str | None = None) -> Any:
        """A pandas DataFrame of the main table, or of another list of the document ('pairs', 'tests', 'icc', ...)."""
        import pandas as pd

        return pd.DataFrame(self.table() if name in (None, self.main) else self.rows_of(str(name)))


def key_of(f: dataclasses.Field[Any]) -> str:
    """The key of a field; a trailing underscore only keeps Python's own words apart."""
    return f.name.rstrip("_")


def flat(row: Row) -> Row:
    """Intervals in two columns, dictionaries spread over columns; labels and lists of parts are left out."""
    out: Row = {}
    for key, value in row.items():
        if key.endswith("ci"):
            stem = key.removesuffix("ci")
            out[f"{stem}low"], out[f"{stem}high"] = value or (None, None)
        elif key == "levels" and isinstance(value, dict):
            out |= value
        elif key == "chances":
            out |= {f"chance[{c['grade']}]": c["chance"] for c in value or []}
        elif isinstance(value, dict):
            out |= {f"{key} {k}": v for k, v in value.items()}
        elif key not in ("label", "parts", "profile"):
            out[key] = value
    return out


def _hints(cls: type) -> dict[str, Any]:
    """The types of a class's fields, looked up once."""
    if cls not in _known:
        _known[cls] = typing.get_type_hints(cls)
    return _known[cls]


def _plan(cls: type) -> list[tuple[str, str, bool, Converter | None]]:
    """Of every field of the document its name, its key, whether it must be there, and what makes its value; looked up once."""
    if cls not in _plans:
        hints = _hints(cls)
        _plans[cls] = [
            (f.name, key_of(f), f.default is dataclasses.MISSING, _converter(hints[f.name]))
            for f in dataclasses.fields(cls)
            if "beside" not in f.metadata
        ]
    return _plans[cls]


def _converter(hint: Any) -> Converter | None:
    """What turns a value of the document into what the field's type has: objects become parts; None where it stays as it is."""
    if not _holds_part(hint):
        return None
    origin = get_origin(hint)
    if origin in (Union, types.UnionType):
        inner = _converter(next(a for a in get_args(hint) if _holds_part(a)))
        return lambda value: value if value is None or inner is None else inner(value)
    if origin is list:
        each = _converter(get_args(hint)[0])
        return lambda values: values if each is None or hasattr(values, "plain") else [each(v) for v in values]
    if origin is dict:
        one = _converter(get_args(hint)[1])
        return lambda values: {k: one(v) for k, v in values.items()} if one is not None else values
    return lambda value: value if isinstance(value, Part) else hint.from_dict(value)


def _holds_part(hint: Any) -> bool:
    if isinstance(hint, type) and issubclass(hint, Part):
        return True
    return any(_holds_part(a) for a in get_args(hint))
