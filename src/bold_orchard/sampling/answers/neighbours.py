"""What the observed errors of a unit tell of its other rows at every draw, where errors of one unit are correlated.

Given the effects of a draw the errors of different units are independent, so that r' R^-1 (y - X b - Z u) needs the
rows of the unit alone.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.table import Table
from bold_orchard.design.build import unit_codes
from bold_orchard.design.design import Design
from bold_orchard.design.subset import some_rows
from bold_orchard.estimation.assumed import Assumed, assumed_of
from bold_orchard.inference.prediction.neighbours import errors_of, rows_with_neighbours, together
from bold_orchard.inference.prediction.predict import GIVEN, UNTOLD_OF_NEIGHBOURS
from bold_orchard.sampling.answers.draws import Draws

Array = NDArray[Any]


@dataclass(frozen=True)
class Told:
    """Of the rows at ``places``, in their order: what neighbours add at every draw, and the SD of one more error, (D,
    k) both; of those at ``untold`` nothing is known."""

    places: NDArray[np.intp]
    untold: NDArray[np.intp]
    added: Array
    sd: Array

    def moved(self, part: slice) -> Array:
        """What is added to the rows of a part, (D, rows)."""
        out = np.zeros((len(self.added), part.stop - part.start))
        here = self._here(part)
        out[:, self.places[here] - part.start] = self.added[:, here]
        return out

    def narrow(self, sds: Array, part: slice) -> None:
        """Put the SDs of errors given their neighbours in the place of those of the law, in ``sds`` (D, rows) of a
        part."""
        here = self._here(part)
        sds[:, self.places[here] - part.start] = self.sd[:, here]

    def given(self, n: int) -> Array:
        """Which of n rows are predicted given their neighbours, as documents tell it, (n,)."""
        out = np.zeros(n)
        out[self.places], out[self.untold] = GIVEN, UNTOLD_OF_NEIGHBOURS
        return out

    def _here(self, part: slice) -> NDArray[np.bool_]:
        return (self.places >= part.start) & (self.places < part.stop)


def from_neighbours(draws: Draws, used: Table) -> Told | None:
    """Of rows without an outcome whose unit has observed errors; None where there are none, or their errors are
    independent."""
    fit = draws.fit
    places, design = rows_with_neighbours(fit, used), fit.design
    if places is None:
        return None
    within = design.sentence.within
    assert within is not None
    held = design.counts is None and not design.on_disk
    home, mine = unit_codes(within.unit, design.table), unit_codes(within.unit, used.take(places))
    code = {t: k for k, t in enumerate(home.texts)}
    unit_of_asked = np.array([code.get(t, -1) for t in mine.texts])[mine.codes]
    observed = np.flatnonzero(np.isin(home.codes, unit_of_asked))
    both = together(fit, design.table.take(observed), used.take(places)) if held else None
    if both is None:
        nothing = np.zeros((draws.count, 0))
        return Told(np.zeros(0, dtype=np.intp), places, nothing, nothing)
    n = len(observed)
    unit_of_row = np.concatenate([home.codes[observed], unit_of_asked])
    rest = _errors_at_draws(draws, observed)
    added, sd = np.empty((2, draws.count, len(places)))
    laws = _Laws(draws)
    for unit in np.unique(unit_of_asked):
        rows = np.flatnonzero(unit_of_row == unit)
        seen, new = rows[rows < n], rows[rows >= n] - n
        weights, own = laws.given(some_rows(both, rows), len(seen))
        added[:, new] = np.einsum("dns,ds->dn", weights, rest[:, seen])
        sd[:, new] = own
    return Told(places, np.zeros(0, dtype=np.intp), added, sd)


def _errors_at_draws(draws: Draws, rows: NDArray[np.intp]) -> Array:
    """y - X b - Z u of some rows of the fit, (D, rows)."""
    design = draws.fit.design
    eta = draws.b @ np.array([design.fixed.values[k][rows] for k in draws.fit.model.kept])
    for clause in design.clauses:
        u = draws.effects[clause.block][:, :, clause.columns]
        z = np.column_stack(clause.part.values)[rows]
        eta += np.einsum("dnk,nk->dn", u[:, design.units[clause.unit].codes[rows]], z)
    return np.asarray(design.y[rows] - eta - (0.0 if design.offset is None else design.offset[rows]))


class _Laws:
    """Weights of observed errors and what is left of a new one's SD, at every draw; units whose rows stand alike share
    them."""

    def __init__(self, draws: Draws) -> None:
        self.draws = draws
        self.known: dict[Any, tuple[Array, Array]] = {}
        catalogue = draws.fit.catalogue
        self.phi, self.own = assumed_of(draws.fit.model).phi, draws.table(catalogue.residual_own)
        k = len(catalogue.occasions)
        self.alike = np.broadcast_to(np.eye(k), (draws.count, k, k)).copy()  # correlations of occasions
        for (i, j), parameter in catalogue.occasion_correlations.items():
            self.alike[:, i, j] = self.alike[:, j, i] = draws.of(parameter)

    def given(self, part: Design, seen: int) -> tuple[Array, Array]:
        """Of the rows of one unit, ``seen`` of them first, (D, new, seen) and (D, new)."""
        residual = part.residual
        spread = () if residual.spread is None else residual.spread.values
        standing = (residual.time, residual.level, part.weights, *spread)
        key = (seen, *(None if v is None else np.ascontiguousarray(v).tobytes() for v in standing))
        if key not in self.known:
            r = np.array([self._covariance(part, d) for d in range(self.draws.count)])
            inside, across = r[:, :seen, :seen], r[:, :seen, seen:]
            weights = np.linalg.solve(inside, across)
            left = np.diagonal(r, axis1=1, axis2=2)[:, seen:] - (across * weights).sum(axis=1)
            self.known[key] = weights.transpose(0, 2, 1), np.sqrt(np.maximum(left, 0.0))
        return self.known[key]

    def _covariance(self, part: Design, d: int) -> Array:
        """R of some rows of one unit at one draw."""
        draws, residual, spread = self.draws, part.residual, self.draws.gamma[d]
        if draws.log_sd is not None:
            sigma2, own = float(np.exp(2.0 * draws.log_sd[d])), tuple(map(float, self.own[d]))
            return errors_of(part, Assumed(np.zeros(0), (), sigma2=sigma2, phi=self.phi, own=own, spread=spread))
        at = residual.variance_codes(residual.time, residual.level)
        sd = draws.occasion_sds[d][at]
        for b, values in zip(spread, () if residual.spread is None else residual.spread.values):
            sd = sd * np.exp(b * values)
        sd = sd if part.weights is None else sd / np.sqrt(part.weights)
        return np.asarray(self.alike[d][np.ix_(at, at)] * np.outer(sd, sd))
