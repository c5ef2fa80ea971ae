"""Indices, names and signs of a model's equations."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Design, UnitCodes
from bold_orchard.design.validation import constant_inside, is_nested

Array = NDArray[Any]
ROW, LETTERS = "i", "jklmnopqrst"
SPECIAL = re.compile(r"([\\&%$#_{}])")


def upright(name: str) -> str:
    """A name of the data in a formula."""
    return "\\mathrm{" + SPECIAL.sub(r"\\\1", name.replace("\\", "/")).replace(" ", "\\ ") + "}"


@dataclass(frozen=True)
class Indices:
    """One letter for the rows and one for each unit, the finest unit first; a nested unit bears its parents' letters too."""

    design: Design

    @cached_property
    def units(self) -> list[UnitCodes]:
        """Units of the each clauses, the finest first."""
        used = {c.unit: self.design.units[c.unit] for c in self.design.clauses if not self.design.units[c.unit].curve}
        return sorted(used.values(), key=lambda u: -u.size)

    @cached_property
    def letter(self) -> dict[str, str]:
        return {u.name: LETTERS[i] for i, u in enumerate(self.units)}

    def of(self, unit: UnitCodes) -> str:
        """The indices of one unit's level."""
        parents = [o for o in self.units if o is not unit and o.size < unit.size and is_nested(unit, o)]
        return self.letter[unit.name] + "".join(self.letter[p.name] for p in parents)

    @property
    def row(self) -> str:
        return ROW + "".join(self.letter[u.name] for u in self.units)

    def home(self, values: Array) -> UnitCodes | None:
        """The coarsest unit in which a column takes one value; None where it varies from row to row."""
        kept = [u for u in self.units if constant_inside(u.codes, u.size, np.asarray(values, dtype=float))]
        return min(kept, key=lambda u: u.size) if kept else None

    def subscript(self, values: Array) -> str:
        unit = self.home(values)
        return self.row if unit is None else self.of(unit)


def variable(name: str, subscript: str) -> str:
    """A column with its indices: powers as powers, a level of a category as an indicator in brackets."""
    level = re.fullmatch(r"(.+)\[(.*)\]", name)
    if level is not None:
        return f"[{upright(level[1])} = {upright(level[2])}]_{{{subscript}}}"
    power = re.fullmatch(r"(.+)\^(\d+)", name)
    if power is not None:
        return f"{upright(power[1])}_{{{subscript}}}^{{{power[2]}}}"
    return f"{upright(name)}_{{{subscript}}}"


def total(parts: list[str]) -> str:
    """Parts of a sum joined by their signs."""
    out = ""
    for part in parts:
        if not out:
            out = part
        else:
            out += f" - {part[1:].lstrip()}" if part.startswith("-") else f" + {part}"
    return out or "0"


def number(x: float | None, digits: int) -> str:
    """A figure to some significant digits, as a formula has it."""
    if x is None or not np.isfinite(x):
        return "\\mathrm{?}"
    text = f"{x:.{digits}g}"
    if "e" in text:
        mantissa, power = text.split("e")
        return f"{mantissa} \\cdot 10^{{{int(power)}}}"
    return text
