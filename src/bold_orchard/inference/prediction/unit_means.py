"""The means of a term inside each unit, where the model lets units differ in them: lines that are not parallel."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.columns import Column, of_array
from bold_orchard.data.table import Table
from bold_orchard.design.build import rebuild_parts, unit_codes
from bold_orchard.design.design import UnitCodes
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.summary import number
from bold_orchard.sentence.tree import columns_of

Array = NDArray[Any]
MOST = 300  # levels whose lines say anything


def unit_means(
    fit: Fit,
    columns: Sequence[str],
    cells: Sequence[Mapping[str, Any]],
    means: Sequence[float | None],
    held: Mapping[str, float],
) -> list[dict[str, Any]]:
    """``unit``, ``level`` and ``means`` (one a cell, as ``means`` with the units' predicted effects; None where a level has no such cell).

    Of the coarsest unit that differs in the term: its clause varies with one of ``columns``, or a unit made of it and of one of them
    (``variety in site``) stands in the sentence. Empty where none does. ``cells`` map raw columns to levels, ``held`` holds covariates.
    """
    unit = _differing(fit, columns)
    if unit is None or unit.size > MOST:
        return []
    own = set(unit.name.split(" in "))
    rows = _rows(fit, unit, cells, held)
    _, parts, _ = rebuild_parts(fit.design, rows)
    effect, met = np.zeros(len(rows)), np.ones(len(rows), dtype=bool)
    for clause, part, each in zip(fit.design.clauses, parts, fit.design.sentence.clauses):
        if not {c.name for c in each.unit.columns} <= own | set(columns):
            continue
        fitted = fit.design.blocks[clause.block].unit
        place = {t: i for i, t in enumerate(fitted.texts)}
        codes = unit_codes(each.unit, rows)
        level = np.array([place.get(t, -1) for t in codes.texts], dtype=np.intp)[codes.codes]
        met &= level >= 0
        effects = fit.model.effects[clause.block][0][:, clause.columns]
        effect += np.where(
            level >= 0, np.einsum("nk,nk->n", np.column_stack(part.values), effects[np.maximum(level, 0)]), 0.0
        )
    k = len(cells)
    return [
        {"unit": unit.name, "level": text,
         "means": [number(m + effect[j * k + i]) if m is not None and met[j * k + i] else None for i, m in enumerate(means)]}
        for j, text in enumerate(unit.texts)
    ]  # fmt: skip


def too_many(fit: Fit, columns: Sequence[str]) -> str | None:
    """What to say where units differ in the term but are too many to be listed."""
    unit = _differing(fit, columns)
    if unit is None or unit.size <= MOST:
        return None
    return f"The {unit.size:,} levels of {unit.name} differ in the term; lines of so many are left out (orchard groups has their effects)."


def _differing(fit: Fit, columns: Sequence[str]) -> UnitCodes | None:
    units = {frozenset(u.name.split(" in ")): u for u in fit.design.groups}
    found = []
    for each in fit.design.sentence.clauses:
        names = frozenset(c.name for c in each.unit.columns)
        if names not in units:
            continue
        if {c.name for c in columns_of(each.terms)} & set(columns):
            found.append(units[names])
        inner = names - set(columns)
        if inner != names and inner in units:
            found.append(units[inner])
    return min(found, key=lambda u: u.size, default=None)


def _rows(fit: Fit, unit: UnitCodes, cells: Sequence[Mapping[str, Any]], held: Mapping[str, float]) -> Table:
    """Every cell in every level: the level's first row with the cell's values, covariates as held."""
    table = fit.design.table
    first = np.unique(unit.codes, return_index=True)[1]
    rows = table.take(np.repeat(first, len(cells)))
    made: dict[str, Column] = {column: np.full(len(rows), float(value)) for column, value in held.items()}
    for column in cells[0]:
        labels = table.labels(column)
        raw = dict(zip(labels.texts, labels.raw))
        made[column] = of_array(np.array([raw.get(str(c[column]), c[column]) for c in cells] * len(first)))
    return rows.with_columns(made)
