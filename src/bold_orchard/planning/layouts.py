"""The rows of a study of another size: units drawn from those at hand, with all that is inside them."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.columns import Column, of_array
from bold_orchard.data.table import Table
from bold_orchard.design.design import Design, UnitCodes
from bold_orchard.errors import OrchardError, UsageError, unknown_name
from bold_orchard.machine import check_room

Codes = NDArray[np.intp]
ROW = 400  # bytes that a row of a study takes at most times: its columns, labels and the model matrix over them


@dataclass(frozen=True)
class Size:
    """How many levels each unit has (of a nested one in each level of its parent), and rows per level of the smallest."""

    units: dict[str, int]
    rows: int | None


def check_rows(rows: float) -> None:
    """Refuse a study of more rows than there is memory for; raises UsageError."""
    check_room(ROW * rows, f"studies of {rows:,.0f} rows", "ask for fewer units or rows")


def sizes(units: Mapping[str, Sequence[int]], rows: Sequence[int]) -> list[Size]:
    """Every combination, small ones first."""
    counts = [dict(zip(units, c)) for c in itertools.product(*units.values())]
    each: list[int | None] = [*rows] if rows else [None]
    return [Size(c, r) for c in counts for r in each]


def read_counts(texts: Sequence[str]) -> dict[str, list[int]]:
    """``orchard=10,20,40`` -> {'orchard': [10, 20, 40]}; raises UsageError for what is no list of whole numbers."""
    out: dict[str, list[int]] = {}
    for text in texts:
        name, sign, values = text.rpartition("=")
        if not sign:
            raise UsageError(f"--units is written UNIT=10,20,40, not '{text}'")
        out[" ".join(name.split())] = whole_numbers(values, "--units")
    return out


def whole_numbers(text: str, option: str) -> list[int]:
    parts = [p.strip() for p in str(text).split(",") if p.strip()]
    if not parts or not all(p.isdigit() and int(p) > 0 for p in parts):
        raise UsageError(f"{option} takes whole numbers above zero, such as 5,10,20, not '{text}'")
    return sorted({int(p) for p in parts})


def smallest(design: Design) -> UnitCodes | None:
    """The unit with the most levels."""
    return max(design.groups, key=lambda u: u.size, default=None)


def inside(a: UnitCodes, b: UnitCodes) -> bool:
    """Whether every level of ``a`` lies in one level of ``b``, which is coarser."""
    first = np.zeros(a.size, dtype=np.intp)
    first[a.codes] = b.codes
    return b.size < a.size and bool(np.array_equal(first[a.codes], b.codes))


def check_size(design: Design, size: Size) -> None:
    """Raise OrchardError for a unit that the model does not have."""
    names = [u.name for u in design.groups]
    for name in size.units:
        if name not in names:
            raise OrchardError(unknown_name("unit", name, names, "the model") + " (in --units)")
    if size.rows is not None and not names:
        raise OrchardError("the model has no unit, so --rows has nothing to count in")


def resized(design: Design, size: Size, rng: np.random.Generator) -> Table:
    """A table like the design's own with other numbers of levels and rows.

    Fewer levels are a random part, more are those at hand and others drawn among them, each a new level with its rows and all that
    is nested in it; rows inside levels likewise. Levels of units that cross it keep their names.
    """
    check_size(design, size)
    table = design.table
    at = np.arange(len(table))
    marks = {column: np.full(len(table), "", dtype=object) for u in design.groups for column in _columns(u)}
    names = sorted(size.units, key=lambda n: next(u.size for u in design.groups if u.name == n))
    for name in names:
        at, marks = _levels_drawn(design, name, size.units[name], at, marks, rng)
    unit = smallest(design)
    if size.rows is not None and unit is not None:
        own = _present(unit, at, marks)
        places = _drawn_in_groups(own, size.rows, rng)
        at, marks = at[places], {c: m[places] for c, m in marks.items()}
    changed: dict[str, Column] = {}
    made = replace(table.take(at), rows=None, read=len(at), raw=None)
    for column, mark in marks.items():
        if (mark != "").any():
            labels = made.labels(column)
            changed[column] = of_array(np.array(labels.texts, dtype=object)[labels.codes] + mark)
    return made.with_columns(changed) if changed else made


def _columns(unit: UnitCodes) -> list[str]:
    return unit.name.split(" in ")


def _present(unit: UnitCodes, at: Codes, marks: dict[str, NDArray[np.object_]]) -> Codes:
    """Level of each row of the present layout, copies told apart."""
    joint = unit.codes[at].astype(np.int64)
    for column in _columns(unit):
        _, code = np.unique(marks[column], return_inverse=True)
        joint = np.unique(joint * (int(code.max()) + 1) + code.ravel(), return_inverse=True)[1].ravel()
    return np.unique(joint, return_inverse=True)[1].ravel().astype(np.intp)


def _levels_drawn(
    design: Design, name: str, wanted: int, at: Codes, marks: dict[str, NDArray[np.object_]], rng: np.random.Generator
) -> tuple[Codes, dict[str, NDArray[np.object_]]]:
    """``wanted`` levels of one unit in each level of the coarser ones it is nested in."""
    unit = next(u for u in design.groups if u.name == name)
    parents = [u for u in design.groups if u is not unit and inside(unit, u)]
    parent = (
        np.zeros(len(at), dtype=np.intp) if not parents else _present(max(parents, key=lambda u: u.size), at, marks)
    )
    own = _present(unit, at, marks)
    home = np.zeros(int(own.max()) + 1, dtype=np.intp)
    home[own] = parent
    renamed = {
        _columns(u)[0] for u in design.groups if u is unit or (inside(u, unit) and _columns(unit)[0] not in _columns(u))
    }
    order = np.argsort(own, kind="stable")
    starts = np.searchsorted(own[order], np.arange(len(home) + 1))
    rows, suffixes = [], []
    check_rows(float(wanted) * len(np.unique(home)) * len(at) / len(home))
    for p in np.unique(home):
        levels = np.flatnonzero(home == p)
        more = wanted - len(levels)
        chosen = (
            rng.choice(levels, wanted, replace=False)
            if more <= 0
            else np.concatenate([levels, rng.choice(levels, more)])
        )
        times: dict[int, int] = {}
        for level in sorted(chosen) if more <= 0 else chosen:
            times[int(level)] = times.get(int(level), 0) + 1
            part = order[starts[level] : starts[level + 1]]
            rows.append(part)
            suffixes.append(np.full(len(part), f"~{times[int(level)]}" if times[int(level)] > 1 else "", dtype=object))
    places, suffix = np.concatenate(rows), np.concatenate(suffixes)
    return at[places], {c: (m[places] + suffix if c in renamed else m[places]) for c, m in marks.items()}


def _drawn_in_groups(groups: Codes, wanted: int, rng: np.random.Generator) -> Codes:
    """``wanted`` places of each group, drawn as the levels are; in their order."""
    order = np.argsort(groups, kind="stable")
    starts = np.searchsorted(groups[order], np.arange(int(groups.max()) + 2))
    out = []
    check_rows(float(wanted) * (len(starts) - 1))
    for a, b in itertools.pairwise(starts):
        own = order[a:b]
        more = wanted - len(own)
        out.append(
            np.sort(rng.choice(own, wanted, replace=False))
            if more <= 0
            else np.concatenate([own, rng.choice(own, more)])
        )
    return np.concatenate(out).astype(np.intp)
