"""What the observed errors of a unit tell of its other rows, where errors of one unit are correlated.

The target is x'b + z'u + r' R^-1 (y - X b - Z u), r the covariance of a row's error with its unit's observed errors, with the error of
its prediction (Harville 1976); everything is written out for the rows that hang together.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from bold_orchard.covariance.residuals import residual_structure_of
from bold_orchard.data.table import Table
from bold_orchard.design.build import unit_codes
from bold_orchard.design.design import Design
from bold_orchard.design.model_matrix import build_part
from bold_orchard.design.over import design_over
from bold_orchard.design.residual import level_codes, times_of
from bold_orchard.design.subset import some_rows
from bold_orchard.design.transformations import ColumnMaker
from bold_orchard.errors import OrchardError
from bold_orchard.estimation.assumed import assumed_of
from bold_orchard.estimation.dense import effects_covariance, residual_covariance
from bold_orchard.inference.coefficients.kenward_roger_beyond import hanging_together
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.prediction.asked_rows import outcome_of
from bold_orchard.sentence import tree

Array = NDArray[Any]
MOST_TOGETHER = 3_000  # rows whose covariance is written out at once


@dataclass(frozen=True)
class Told:
    """Of the rows at ``places``: what neighbours add to the fixed part, the variance of the error of that, and that of one more error.

    ``untold`` are the places of rows whose unit may have observed errors, but whose covariance is not written out.
    """

    places: NDArray[np.intp]
    untold: NDArray[np.intp]
    moved: Array
    variance: Array
    own: Array


def _nothing_of(places: NDArray[np.intp]) -> Told:
    return Told(np.zeros(0, dtype=np.intp), places, *np.zeros((3, 0)))


def from_neighbours(fit: Fit, used: Table) -> Told | None:
    """Of rows without an outcome whose unit has observed errors; None where there are none, or their errors are independent."""
    places = rows_with_neighbours(fit, used)
    if places is None:
        return None
    if fit.design.counts is not None or fit.design.on_disk:
        return _nothing_of(places)
    return _told(fit, used, places)


def rows_with_neighbours(fit: Fit, used: Table) -> NDArray[np.intp] | None:
    """Places of rows without an outcome whose unit has rows in the fit; None where there are none, or their errors are
    independent. Of a fit that does not hold its rows those of all units."""
    design = fit.design
    within = design.sentence.within
    if within is None or not design.additive or design.residual.codes is None:
        return None
    names = [c.name for c in (*within.unit.columns, *within.structure.columns, *([within.by] if within.by else []))]
    if not all(used.has(n) for n in names):
        return None
    open_rows = np.isnan(outcome_of(fit, used)) & ~np.any([used.is_missing(n) for n in names], axis=0)
    if design.counts is not None or design.on_disk:
        return np.flatnonzero(open_rows)
    known = dict(zip(unit_codes(within.unit, design.table).texts, range(design.table.data.n + 1)))
    there = unit_codes(within.unit, used)
    open_rows &= np.array([t in known for t in there.texts])[there.codes]
    places = np.flatnonzero(open_rows)
    return places if len(places) else None


def _told(fit: Fit, used: Table, places: NDArray[np.intp]) -> Told:
    design = fit.design
    within = design.sentence.within
    assert within is not None
    sets = hanging_together(design)
    label = np.empty(len(design.y), dtype=np.intp)
    for i, rows in enumerate(sets):
        label[rows] = i
    home = unit_codes(within.unit, design.table)
    first = {t: int(label[np.flatnonzero(home.codes == k)[0]]) for k, t in enumerate(home.texts)}
    mine = unit_codes(within.unit, used.take(places))
    set_of = np.array([first[t] for t in mine.texts])[mine.codes]
    wanted = np.unique(set_of)
    observed = np.concatenate([sets[i] for i in wanted])
    both, n = together(fit, design.table.take(observed), used.take(places)), len(observed)
    if both is None:
        return _nothing_of(places)
    of_row = np.concatenate([label[observed], set_of])
    assumed = assumed_of(fit.model)
    x = np.column_stack([both.fixed.values[k] for k in fit.model.kept])
    y, m = design.y[observed], np.asarray(fit.evaluation.b_covariance)
    out = np.zeros((3, len(places)))
    keep = np.ones(len(places), dtype=bool)
    for i in wanted:
        rows = np.flatnonzero(of_row == i)
        seen, new = rows[rows < n], rows[rows >= n]
        if len(rows) > MOST_TOGETHER:
            keep[new - n] = False
            continue
        part, k = some_rows(both, rows), len(seen)
        r = errors_of(part, assumed)
        v = effects_covariance(part, assumed) + r
        solved = np.linalg.solve(v[:k, :k], np.column_stack([v[:k, k:], x[seen], y[seen]]))
        c, vx, vy = solved[:, : len(new)], solved[:, len(new) : -1], solved[:, -1]
        out[0, new - n] = v[k:, :k] @ (vy - vx @ fit.evaluation.b)
        away = x[new] - c.T @ x[seen]
        whole = np.diag(v)[k:] - np.einsum("ij,ij->j", v[:k, k:], c) + np.einsum("ip,pq,iq->i", away, m, away)
        own = np.diag(r)[k:] - np.einsum("ij,ij->j", r[:k, k:], np.linalg.solve(r[:k, :k], r[:k, k:]))
        out[1, new - n], out[2, new - n] = whole - own, np.maximum(own, 0.0)
    return Told(places[keep], places[~keep], *out[:, keep])


def together(fit: Fit, observed: Table, asked: Table) -> Design | None:
    """Both sets of rows coded as in the fit; None where a row stands at an occasion that the fit does not know."""
    design = fit.design
    sentence, weights = design.sentence, fit.settings.options.weights
    assert sentence.within is not None
    needed = [c.name for c in tree.columns_of((sentence.terms, sentence.clauses, sentence.within, sentence.spread))]
    columns = list(dict.fromkeys([*needed, *([weights] if weights else [])]))
    frame = pd.concat([t.only(columns).frame for t in (observed, asked)], ignore_index=True)
    table = Table(frame, observed.name, len(frame)).with_orders(observed.orders)
    alone = replace(design, sentence=replace(sentence, within=None, spread=()))
    try:
        made = design_over(alone, table, weights)
    except OrchardError:
        return None
    if len(made.y) != len(frame):
        return None
    maker = ColumnMaker(made.table, design.memory, learn=False)
    time, labels = times_of(sentence.within.structure, maker, sentence)
    if residual_structure_of(design.residual.kind).takes == "occasions":
        place = {t: i for i, t in enumerate(design.residual.labels)}
        if time is None or any(t not in place for t in labels):
            return None
        time = np.array([place[t] for t in labels], dtype=np.intp)[time]
    spread = build_part(sentence.spread, True, maker).without_intercept() if sentence.spread else None
    codes = unit_codes(sentence.within.unit, made.table).codes
    residual = replace(design.residual, codes=codes, time=time, spread=spread)
    if sentence.within.by is not None:
        level, levels = level_codes(maker, sentence.within.by.name)
        if not set(levels) <= set(residual.levels):
            return None
        residual = replace(residual, level=np.array([residual.levels.index(t) for t in levels], dtype=np.intp)[level])
    return replace(made, residual=residual)


def errors_of(part: Design, assumed: Any) -> Array:
    """R of some rows, of which several may stand at one time of a unit: their errors are one, but for their spread."""
    codes = np.asarray(part.residual.codes)
    if part.residual.time is None:
        return residual_covariance(part, assumed)
    times = np.asarray(part.residual.time).reshape(len(codes), -1)
    keys = np.column_stack([codes, times])
    _, first, again = np.unique(keys, axis=0, return_index=True, return_inverse=True)
    if len(first) == len(codes):
        return residual_covariance(part, assumed)
    single = some_rows(part, np.sort(first))
    rank = np.argsort(np.argsort(first))
    at = rank[again.ravel()]
    plain = replace(single, residual=replace(single.residual, spread=None), weights=None)
    r = residual_covariance(plain, replace(assumed, spread=np.zeros(0), sigma2=1.0))[np.ix_(at, at)]
    sd = np.full(len(codes), np.sqrt(assumed.sigma2))
    for b, values in zip(assumed.spread, () if part.residual.spread is None else part.residual.spread.values):
        sd = sd * np.exp(b * values)
    return r * np.outer(sd, sd) / (1.0 if part.weights is None else np.sqrt(np.outer(part.weights, part.weights)))
