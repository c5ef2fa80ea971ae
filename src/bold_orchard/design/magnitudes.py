"""Sizes that double precision cannot bear: refused in words before any sum is formed."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.errors import OrchardError
from bold_orchard.sentence import tree
from bold_orchard.sentence.edit import with_centred

if TYPE_CHECKING:
    from bold_orchard.design.design import Design

Array = NDArray[Any]
LARGEST, SMALLEST = 1e50, 1e-50  # fourth powers of the columns occur, and 1e308 is the end
WIDEST_WEIGHTS = 1e15  # beyond, the lightest rows are lost in the rounding of the heaviest
FAR_IN_PRODUCT = 1e7  # means in SDs; the square of it is lost of 16 digits
FAR = 1e5  # standard deviations from zero beyond which a product of columns loses its digits


def check_scales(design: Design) -> list[str]:
    """Refuse columns and weights beyond reach; returns notes on covariates far from zero where that costs digits."""
    columns = {design.outcome: design.y}
    for part in (design.fixed, *(c.part for c in design.clauses)):
        columns |= dict(zip(part.names, part.values))
    for name, values in columns.items():
        size = _size(design, name, values)
        if size > LARGEST or 0.0 < size < SMALLEST:
            shown = f"rescale({tree.column_text(name)}, {10.0 ** np.floor(np.log10(size)):g})"
            raise OrchardError(
                f"'{name}' has values around {size:.1g}, whose products leave the computer's arithmetic; "
                f"measure it in another unit, for example {shown}"
            )
    if design.weights is not None:
        low, high = float(design.weights.min()), float(design.weights.max())
        if high > WIDEST_WEIGHTS * low or high > LARGEST or low < SMALLEST:
            raise OrchardError(
                f"the weights run from {low:.3g} to {high:.3g}: rows of the least weight are lost in the rounding of the "
                f"greatest; leave the light rows out with --where, or give weights within a factor of {WIDEST_WEIGHTS:.0e}"
            )
    return _far_covariates(design)


def number_sds(design: Design) -> dict[str, float]:
    """SDs of the columns of the fixed part over the rows used, those of two values, as categories have, left out."""
    out = {}
    for name, values in zip(design.fixed.names, design.fixed.values):
        low, high = float(values.min()), float(values.max())
        if not np.all((values == low) | (values == high)):
            out[name] = float(np.sqrt(design.mean_of((values - design.mean_of(values)) ** 2)))
    return out


def _size(design: Design, name: str, values: Array) -> float:
    """The largest value without its sign; of a raw column it is known."""
    raw = name in design.ends and design.table.has(name) and values is design.table.column(name)
    low, high = design.ends[name] if raw else (float(values.min()), float(values.max()))
    return max(high, -low)


def _far_covariates(design: Design) -> list[str]:
    """Covariates many SDs from zero in products, powers and random slopes: digits cancel there unless they are centred."""
    notes = []
    places = [("the fixed part", _multiplied(design.fixed.terms))]
    for clause in design.clauses:
        if clause.part.intercept:
            places.append((f"each {design.units[clause.unit].name}", clause.part.terms))
    rows = len(design.y) if design.counts is None else float(design.counts.sum())
    for where, terms in places:
        for name in dict.fromkeys(c.name for c in tree.columns_of(terms, units=False)):
            if design.table.kind(name) != "number" or not _stands_plain(terms, name):
                continue
            low, high = design.ends.get(name, (1.0, 1.0))
            if low <= 0.0 <= high and rows < FAR**2:  # a value beyond zero keeps the SD above mean / sqrt(rows)
                continue
            values = design.table.numbers(name)
            middle = design.mean_of(values)
            away = values - middle
            spread, middle = float(np.sqrt(design.mean_of(np.multiply(away, away, out=away)))), abs(middle)
            if spread == 0.0 or middle < FAR * spread:
                continue
            offer = with_centred(design.sentence, name).source
            words = f"'{name}' lies {middle / spread:.1g} of its SDs from zero, so that digits are lost where it stands in {where}"
            if middle > FAR_IN_PRODUCT * spread:
                raise OrchardError(f"{words}; write: {offer}")
            notes.append(f"{words}. Centre it: {offer}")
    return notes


def _multiplied(terms: tuple[tree.Term, ...]) -> tuple[tree.Term, ...]:
    """Products, powers and splines of the fixed part."""
    curved = [any(isinstance(f, tree.Call) and f.function in ("power", "spline") for f in t.factors) for t in terms]
    return tuple(t for t, bent in zip(terms, curved) if len(t.factors) > 1 or bent)


def _stands_plain(terms: tuple[tree.Term, ...], name: str) -> bool:
    """Whether the column itself, not a function of it that moves its origin, stands in one of the terms."""
    found = False

    def walk(item: object) -> None:
        nonlocal found
        if isinstance(item, tree.Column):
            found = found or item.name == name
        elif isinstance(item, tree.Call) and item.function not in MOVING:
            for argument in item.arguments:
                walk(argument)

    for term in terms:
        for factor in term.factors:
            walk(factor.factor if isinstance(factor, tree.Named) else factor)
    return found


MOVING = ("centre", "zscore", "since", "category", "calc", "log", "mean", "offset")
