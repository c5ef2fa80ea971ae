"""Effects that a second sentence names, effect(tree: intercept), and what the first fit knows of them."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.columns import Column
from bold_orchard.data.table import Table
from bold_orchard.design.build import unit_codes
from bold_orchard.errors import OrchardError, SentenceError, nearest, shown, unknown_name
from bold_orchard.inference.fit import Fit
from bold_orchard.sentence.edit import unit_of

Array = NDArray[np.float64]
NAMED = re.compile(r"\[?\beffect\(\s*([^():]+?)\s*:\s*((?:[^()]|\([^()]*\))+?)\s*\)\]?")


@dataclass(frozen=True)
class Carried:
    """Effects of one unit: ``terms`` in the order used, ``mean`` (J, k) and ``covariance`` (J, k, k) given the first model's rows.

    ``level`` (n,) is the unit of each row of the second data, numbered among the ``labels`` that occur; ``variance`` (k,) is that of
    the effects themselves; ``places`` (block, column) and ``rows`` (J,) say where they stand in the first model.
    """

    unit: str
    terms: tuple[str, ...]
    labels: tuple[str, ...]
    level: NDArray[np.intp]
    mean: Array
    covariance: Array
    variance: Array
    places: tuple[tuple[int, int], ...]
    rows: NDArray[np.intp]

    @property
    def names(self) -> list[str]:
        """The columns that hold them."""
        return [name_of(self.unit, t) for t in self.terms]

    @property
    def reliability(self) -> Array:
        """Mean over units of 1 - var(u | rows) / variance, (k,)."""
        own = np.einsum("jaa->ja", self.covariance)
        return np.asarray(1.0 - (own / np.where(self.variance > 0, self.variance, np.inf)).mean(axis=0))

    def with_law(self, mean: Array, covariance: Array) -> Carried:
        """The same effects, known otherwise."""
        return replace(self, mean=mean, covariance=covariance)

    def columns(self, effects: Array) -> dict[str, Column]:
        """Columns over the rows of the second data for effects (J, k)."""
        return {name: effects[self.level, a] for a, name in enumerate(self.names)}


def name_of(unit: str, term: str) -> str:
    return f"effect({unit}: {term})"


def with_columns_named(text: str) -> tuple[str, list[tuple[str, str]]]:
    """The sentence with every effect(UNIT: TERM) as a column of that name, and (unit, term) of each, once.

    Raises SentenceError where there is none.
    """
    found: list[tuple[str, str]] = []

    def column(match: re.Match[str]) -> str:
        unit, term = " ".join(match.group(1).split()), match.group(2).strip()
        if (unit, term) not in found:
            found.append((unit, term))
        return f"[{name_of(unit, term)}]"

    made = NAMED.sub(column, text)
    if not found:
        raise SentenceError(
            "carry needs an effect of the first model among its terms: effect(UNIT: intercept)", text, 0
        )
    return made, found


def carried(fit: Fit, wanted: Sequence[tuple[str, str]], table: Table) -> list[Carried]:
    """What the first fit says of the effects wanted, for the rows of the second data.

    Raises OrchardError for an effect the fit lacks, and for rows whose unit is not in it.
    """
    if not fit.converged:
        raise OrchardError(f"the fit '{fit.name}' did not converge, so its effects are not carried on; mend it first")
    units = {u.name: i for i, u in enumerate(fit.design.units)}
    out = []
    for unit in dict.fromkeys(u for u, _ in wanted):
        if unit not in units:
            raise OrchardError(unknown_name("unit", unit, list(units), f"the fit '{fit.name}'"))
        out.append(_of_unit(fit, unit, [t for u, t in wanted if u == unit], table))
    return out


def _of_unit(fit: Fit, unit: str, terms: list[str], table: Table) -> Carried:
    design = fit.design
    places: dict[str, tuple[int, int]] = {}
    for clause in design.clauses:
        if design.units[clause.unit].name == unit:
            for a, name in enumerate(clause.part.names):
                if name in places and name in terms:
                    raise OrchardError(
                        f"two clauses of '{fit.name}' hold the {name} of {unit}, so effect({unit}: {name}) could mean either; carry on a fit with one"
                    )
                places[name] = (clause.block, clause.columns.start + a)
    for term in terms:
        if term not in places:
            raise OrchardError(_lacking(fit, unit, term, list(places)))
    at = [places[t] for t in terms]
    mean, covariance = law_at(fit.evaluation, at)
    fitted = design.blocks[at[0][0]].unit
    variance = np.array([fit.evaluation.covariance(f)[i, i] for f, i in at])
    labels, rows, level = _matched(fit, unit, list(fitted.texts), table)
    return Carried(unit, tuple(terms), tuple(labels), level, mean[rows], covariance[rows], variance, tuple(at), rows)


def law_at(point: Any, places: Sequence[tuple[int, int]]) -> tuple[Array, Array]:
    """Means (J, k) and covariances (J, k, k) of effects, given by block and column, of all levels at a point of the likelihood."""
    made = {f: point.effects(f) for f in {f for f, _ in places}}
    mean = np.column_stack([made[f][0][:, i] for f, i in places])
    covariance = np.zeros((*mean.shape, len(places)))
    for a, (f, i) in enumerate(places):
        for b, (g, j) in enumerate(places):
            if f == g:
                covariance[:, a, b] = made[f][1][:, i, j]
    return mean, covariance


def _lacking(fit: Fit, unit: str, term: str, known: list[str]) -> str:
    if term == "spread":
        return f"'{fit.name}' has no spread of its own for each {unit}; its effects of {unit} are: {', '.join(known)}"
    near = nearest(term, known)
    return f"'{fit.name}' has no effect of {unit} called '{term}'; " + (
        f"did you mean effect({unit}: {near})?" if near else f"there are: {', '.join(known)}"
    )


def _matched(
    fit: Fit, unit: str, texts: list[str], table: Table
) -> tuple[list[str], NDArray[np.intp], NDArray[np.intp]]:
    """Labels of the units that occur in the second data, their places in the fit, and each row's among them."""
    for column in unit.split(" in "):
        if not table.has(column):
            raise OrchardError(
                unknown_name("column", column, table.columns, table.name) + f"; its rows are matched by {unit}"
            )
        if table.is_missing(column).any():
            raise OrchardError(
                f"{int(table.is_missing(column).sum()):,} rows of {table.name} have no {column}, so no effect can be carried to them"
            )
    codes = unit_codes(unit_of(unit), table)
    place = {t: i for i, t in enumerate(texts)}
    absent = [t for t in codes.texts if t not in place]
    if absent:
        raise OrchardError(
            f"{unit} {', '.join(shown(absent, 3))} of {table.name} {'is' if len(absent) == 1 else 'are'} not in the fit '{fit.name}'; "
            "leave those rows out with --where, or fit the first model to them too"
        )
    return list(codes.texts), np.array([place[t] for t in codes.texts], dtype=np.intp), codes.codes


def constant_units(fit: Fit, unit: str) -> list[str]:
    """Levels whose rows of the first outcome are all the same, where there are two or more."""
    for candidate in fit.design.groups:
        if candidate.name == unit:
            y = fit.design.outcome_values
            low, high = np.full(candidate.size, np.inf), np.full(candidate.size, -np.inf)
            np.minimum.at(low, candidate.codes, y)
            np.maximum.at(high, candidate.codes, y)
            return [t for t, a, b, n in zip(candidate.texts, low, high, candidate.counts) if a == b and n > 1]
    return []
