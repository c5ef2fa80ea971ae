"""Texts for columns and their levels, and the order of levels: from options, or from a small TOML file beside the
data."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from bold_orchard.errors import OrchardError, UsageError, unknown_name

ENDING = ".labels.toml"
EXAMPLE = '[graft]  label = "Graft"  levels = {0 = "own roots", 1 = "grafted"}  order = ["0", "1"]'


@dataclass(frozen=True)
class ColumnWords:
    """The text of a column, of its levels by their names in the data, and their order."""

    label: str | None = None
    levels: Mapping[str, str] = field(default_factory=dict)
    order: tuple[str, ...] = ()


@dataclass(frozen=True)
class Wording:
    """Texts by column; ``asked`` are columns that an option named, which must be there."""

    columns: Mapping[str, ColumnWords] = field(default_factory=dict)
    asked: tuple[str, ...] = ()

    def __bool__(self) -> bool:
        return any(w.label or w.levels for w in self.columns.values())

    @property
    def orders(self) -> dict[str, list[str]]:
        """Orders of levels that were declared."""
        return {c: list(w.order) for c, w in self.columns.items() if w.order}

    @property
    def texts(self) -> dict[str, str]:
        """The texts of the columns alone."""
        return {c: w.label for c, w in self.columns.items() if w.label}

    def column(self, name: str) -> str:
        """The text of a column, or its name."""
        return (self.columns[name].label if name in self.columns else None) or name

    def level(self, column: str, level: str) -> str:
        """The text of a level of a column, or the level itself."""
        return self.columns[column].levels.get(level, level) if column in self.columns else level

    def beside(self, other: Wording) -> Wording:
        """These texts, and another's in their place where both have some."""
        made = dict(self.columns)
        for name, new in other.columns.items():
            old = made.get(name, ColumnWords())
            made[name] = ColumnWords(new.label or old.label, {**old.levels, **new.levels}, new.order or old.order)
        return Wording(made, (*self.asked, *other.asked))

    def check(self, columns: Iterable[str], table: str) -> None:
        """Raise OrchardError for a column that an option named and the table does not have."""
        known = list(columns)
        for name in self.asked:
            if name not in known:
                raise OrchardError(unknown_name("column", name, known, table) + " (in --label)")

    def to_dict(self) -> dict[str, Any]:
        """As it stands in documents and in the file."""
        made = {
            c: {"label": w.label, "levels": dict(w.levels), "order": list(w.order)} for c, w in self.columns.items()
        }
        return {c: {k: v for k, v in own.items() if v} for c, own in made.items()}


def wording_of(given: Mapping[str, Any], where: str = "labels") -> Wording:
    """From a dictionary as a file has it; a text alone is the label of a column. Raises OrchardError for anything else,
    named by column."""
    made = {}
    for name, own in given.items():
        if isinstance(own, str):
            made[str(name)] = ColumnWords(own)
            continue
        if not isinstance(own, Mapping) or set(own) - {"label", "levels", "order"}:
            raise OrchardError(f"{where}: [{name}] holds a label, levels and an order; write  {EXAMPLE}")
        levels, order = own.get("levels", {}), own.get("order", [])
        if (
            not isinstance(own.get("label", ""), str)
            or not isinstance(order, (list, tuple))
            or not isinstance(levels, Mapping)
        ):
            raise OrchardError(f"{where}: [{name}] has a label, levels or an order of the wrong kind; write  {EXAMPLE}")
        if not all(isinstance(v, str) for v in levels.values()):
            raise OrchardError(f"{where}: [{name}] has a level without a text; write  {EXAMPLE}")
        made[str(name)] = ColumnWords(own.get("label"), {str(k): v for k, v in levels.items()}, tuple(map(str, order)))
    return Wording(made)


def read_wording(path: str | Path) -> Wording:
    """Texts of a TOML file. Raises OrchardError for a file that cannot be read, with the place."""
    try:
        made = tomllib.loads(Path(path).read_text(encoding="utf-8"))
    except OSError as e:
        raise OrchardError(f"{path} cannot be read: {e.strerror}; it holds tables such as  {EXAMPLE}") from None
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as e:
        raise OrchardError(f"{path} is not TOML ({e}); it holds tables such as  {EXAMPLE}") from None
    return wording_of(made, str(path))


def beside_data(data: object) -> Wording:
    """The texts of NAME.labels.toml beside a data file, where there is one."""
    if not isinstance(data, (str, Path)) or str(data) in ("-", ""):
        return Wording()
    place = Path(data)
    name = place.name
    while "." in name.lstrip("."):
        name = name.rpartition(".")[0]
        found = place.with_name(name + ENDING)
        if found.is_file():
            return read_wording(found)
    return Wording()


def parse_wording(texts: Iterable[str], columns: Iterable[str] = ()) -> Wording:
    """``rain=Rain (mm)`` names a column, ``graft:0=own roots`` a level of one; raises UsageError for a text without a
    name or the sign."""
    known, made = set(columns), Wording()
    for text in texts:
        name, sign, label = (part.strip() for part in text.partition("="))
        if not sign or not name or not label:
            raise UsageError(f'--label is written "COLUMN=TEXT" or "COLUMN:LEVEL=TEXT", not \'{text}\'')
        column, colon, level = name.rpartition(":")
        if name in known or not colon:
            own = {name: ColumnWords(label)}
            made = made.beside(Wording(own, (name,)))
        else:
            made = made.beside(Wording({column.strip(): ColumnWords(None, {level.strip(): label})}, (column.strip(),)))
    return made


def asked_wording(
    data: object, file: str | None, texts: Iterable[str], kept: Mapping[str, Any] | None = None
) -> Wording:
    """The texts beside the data, in their place those ``kept`` with a fit, then those of a file that is named, then
    those of options."""
    found = (beside_data(data) if file is None else Wording()).beside(wording_of(kept or {}))
    return found.beside(Wording() if file is None else read_wording(file)).beside(parse_wording(texts))


def texts_of(labels: Mapping[str, Any] | str | Wording | None, data: object = None) -> Wording:
    """Texts of columns and levels: those given, from a dictionary or a file, else those beside the data."""
    if isinstance(labels, Wording):
        return labels
    if labels is None:
        return beside_data(data)
    return read_wording(labels) if isinstance(labels, str) else wording_of(labels)
