"""How the covariance of some rows changes with the parameters as they are reported: its first and second derivatives, written out.

Variances and covariances of effects and of occasions, in which V is linear; the residual variance with what its structure reports
(rho, range), by differences; where an SD depends on columns the logarithm of that of the baseline and the coefficients.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_array
from scipy.sparse.csgraph import connected_components

from bold_orchard.design.design import Design
from bold_orchard.estimation.assumed import Assumed
from bold_orchard.estimation.dense import residual_covariance

Array = NDArray[Any]
STEP = 2e-3  # of a residual parameter, in differences of the fourth order
FIRST = ((-2, 1 / 12), (-1, -2 / 3), (1, 2 / 3), (2, -1 / 12))
SECOND = ((-2, -1 / 12), (-1, 4 / 3), (0, -5 / 2), (1, 4 / 3), (2, -1 / 12))


@dataclass(frozen=True)
class Variation:
    """``first`` (m, n, n) derivatives of V, ``second`` those by pairs of parameters that are not zero."""

    first: Array
    second: dict[tuple[int, int], Array]


@dataclass(frozen=True)
class Scale:
    """The parameters of the covariance of one clause's effects.

    ``moves`` (m, k, k) its derivatives; ``logs`` runs (first, end) of parameters of which the first is the logarithm of
    an overall SD.
    """

    clause: int
    moves: Array
    logs: tuple[tuple[int, int], ...]


Residuals = tuple[list[Array], dict[tuple[int, int], Array]]


def variation(
    design: Design, assumed: Assumed, scales: list[Scale], sizes: list[float], known: dict[bytes, Residuals]
) -> Variation:
    """Of V over the rows of a design; ``scales`` of the effects' covariances over all rows, ``sizes`` of the steps in
    each residual parameter, 0 where it stands at an edge and is none. ``known`` keeps what was made for rows that stand
    alike."""
    first, second = _of_effects(design, assumed, scales)
    key = _standing(design)
    if key not in known:
        known[key] = _of_residuals(design, assumed, sizes)
    own, pairs = known[key]
    at = len(first)
    return Variation(np.array([*first, *own]), second | {(a + at, b + at): v for (a, b), v in pairs.items()})


def effect_scales(design: Design, assumed: Assumed, structures: list[Any]) -> list[Scale]:
    """The parameters of every clause's covariance; ``structures`` of every block."""
    out = []
    for i, clause in enumerate(design.clauses):
        directions = structures[clause.block].directions[:, clause.columns, clause.columns]
        directions = directions[np.abs(directions).max(axis=(1, 2), initial=0.0) > 0]
        if clause.vary is None:
            out.append(Scale(i, directions, ()))
            continue
        g, z = assumed.covariances[clause.block][clause.columns, clause.columns], np.column_stack(clause.part.values)
        made: list[Array] = []
        logs: list[tuple[int, int]] = []
        for own in _hanging_together(directions):
            moves, logged = _from_overall(directions[own], g, z.T @ z)
            if logged:
                logs.append((len(made), len(made) + len(moves)))
            made += moves
        out.append(Scale(i, np.array(made), tuple(logs)))
    return out


def _hanging_together(directions: Array) -> list[NDArray[np.intp]]:
    """Sets of directions that share a term with each other, and with no other."""
    terms = np.abs(directions).max(axis=1) > 0
    label = connected_components(csr_array(terms @ terms.T), directed=False)[1]
    return [np.flatnonzero(label == k) for k in range(label.max() + 1)]


def _from_overall(directions: Array, g: Array, within: Array) -> tuple[list[Array], bool]:
    """Moves of a covariance (k, k) in the logarithm of its overall SD, that of what it adds to a row on average, and
    then those that leave this as it is; plain directions, and False, of one that is zero.

    Neither depends on where a column that the SD depends on has its zero, nor on how the terms are coded.
    """
    here = np.abs(directions).max(axis=0) > 0
    g = np.where(here, g, 0.0)
    size = float(np.sum(g * within))
    if not size > 0:
        return list(directions), False
    sizes = np.einsum("kij,ij->k", directions, within)
    share = np.linalg.lstsq(directions.reshape(len(directions), -1).T, g.ravel(), rcond=None)[0]
    dropped = int(np.argmax(share * sizes))
    rest = [d - s / size * g for k, (d, s) in enumerate(zip(directions, sizes)) if k != dropped]
    return [2.0 * g, *rest], True


def _of_effects(
    design: Design, assumed: Assumed, scales: list[Scale]
) -> tuple[list[Array], dict[tuple[int, int], Array]]:
    firsts: list[Array] = []
    seconds: dict[tuple[int, int], Array] = {}
    for scale in scales:
        clause = design.clauses[scale.clause]
        block, z = design.blocks[clause.block], np.column_stack(clause.part.values)
        codes, mix = block.unit.codes, block.relationship_factor
        alike = (codes[:, None] == codes[None, :]).astype(float) if mix is None else (mix @ mix.T)[np.ix_(codes, codes)]
        columns = () if clause.vary is None else clause.vary.values
        if columns:
            z = z * np.exp(sum(a * v for a, v in zip(assumed.vary[scale.clause], columns)))[:, None]
        start = len(firsts)
        firsts += [(z @ move @ z.T) * alike for move in scale.moves]
        for low, high in scale.logs:
            seconds |= {(start + low, start + k): 2.0 * firsts[start + k] for k in range(low, high)}
        whole, end = (z @ assumed.covariances[clause.block][clause.columns, clause.columns] @ z.T) * alike, len(firsts)
        _grow(firsts, seconds, [np.add.outer(v, v) for v in columns], whole, range(start, end))
    return firsts, seconds


def _grow(
    firsts: list[Array], seconds: dict[tuple[int, int], Array], sums: list[Array], whole: Array, own: range
) -> None:
    """Append the coefficients of the columns that an SD depends on: ``sums`` (n, n) of each column over pairs of rows,
    ``whole`` what they scale, ``own`` the parameters of it."""
    for k, x in enumerate(sums):
        at = len(firsts)
        seconds |= {(i, at): x * firsts[i] for i in own}
        seconds |= {(at - k + j, at): sums[j] * x * whole for j in range(k + 1)}
        firsts.append(x * whole)


def _standing(design: Design) -> bytes:
    """All that the residuals' covariance of some rows depends on beside its parameters."""
    residual = design.residual
    spread = () if residual.spread is None else residual.spread.values
    parts = (residual.codes, residual.time, residual.level, *spread, design.weights)
    return (
        b"|".join(b"" if v is None else np.ascontiguousarray(v).tobytes() for v in parts) + str(len(design.y)).encode()
    )


def _of_residuals(design: Design, assumed: Assumed, sizes: list[float]) -> Residuals:
    residual, r = design.residual, residual_covariance(design, assumed)
    sums = [np.add.outer(v, v) for v in (() if residual.spread is None else residual.spread.values)]
    seconds: dict[tuple[int, int], Array] = {}
    if residual.by_occasion:
        firsts = list(_of_occasions(design, assumed))
    elif residual.level is not None:
        firsts, seconds = _of_levels(design, assumed, r, sizes)
    else:
        logged = residual.spread is not None
        firsts = [2.0 * r if logged else r / assumed.sigma2]
        seconds = {(0, 0): 4.0 * r} if logged else {}
        places = [i for i, size in enumerate(sizes) if size > 0]
        for k, i in enumerate(places, start=1):
            slope = _difference(design, assumed, {i: sizes[i]}, FIRST) / sizes[i]
            firsts.append(slope)
            seconds[0, k] = 2.0 * slope if logged else slope / assumed.sigma2
            seconds[k, k] = _difference(design, assumed, {i: sizes[i]}, SECOND) / sizes[i] ** 2
        for (k, i), (m, j) in itertools.combinations(enumerate(places, start=1), 2):
            seconds[k, m] = _mixed(design, assumed, i, j, sizes)
    _grow(firsts, seconds, sums, r, range(len(firsts)))
    return firsts, seconds


def _of_levels(design: Design, assumed: Assumed, r: Array, sizes: list[float]) -> Residuals:
    """The same where every level of a column has a variance and parameters of its own: blocks of its rows."""
    residual = design.residual
    logged, each = residual.spread is not None, len(sizes) // len(residual.levels)
    delta = np.append(0.0, assumed.phi[len(assumed.phi) - len(residual.levels) + 1 :])
    firsts: list[Array] = []
    seconds: dict[tuple[int, int], Array] = {}
    for k in range(len(residual.levels)):
        here = np.asarray(residual.level) == k
        own, variance, at = r * np.outer(here, here), assumed.sigma2 * float(np.exp(2.0 * delta[k])), len(firsts)
        firsts.append(2.0 * own if logged else own / variance)
        if logged:
            seconds[at, at] = 4.0 * own
        mine = [i for i in range(k * each, (k + 1) * each) if sizes[i] > 0]
        if not here.any():
            firsts += [own] * len(mine)
            continue
        for i in mine:
            slope = _difference(design, assumed, {i: sizes[i]}, FIRST) / sizes[i]
            seconds[at, len(firsts)] = 2.0 * slope if logged else slope / variance
            seconds[len(firsts), len(firsts)] = _difference(design, assumed, {i: sizes[i]}, SECOND) / sizes[i] ** 2
            firsts.append(slope)
        for (one, i), (two, j) in itertools.combinations(enumerate(mine, start=at + 1), 2):
            seconds[one, two] = _mixed(design, assumed, i, j, sizes)
    return firsts, seconds


def _moved(design: Design, assumed: Assumed, steps: dict[int, float]) -> Array:
    own = list(assumed.own)
    for i, step in steps.items():
        own[i] += step
    return residual_covariance(design, replace(assumed, own=tuple(own)))


def _difference(
    design: Design, assumed: Assumed, step: dict[int, float], weights: tuple[tuple[int, float], ...]
) -> Array:
    ((i, size),) = step.items()
    return np.asarray(sum(w * _moved(design, assumed, {i: n * size}) for n, w in weights))


def _mixed(design: Design, assumed: Assumed, i: int, j: int, sizes: list[float]) -> Array:
    signs = ((1, 1, 1.0), (-1, -1, 1.0), (1, -1, -1.0), (-1, 1, -1.0))
    total = sum(w * _moved(design, assumed, {i: a * sizes[i], j: b * sizes[j]}) for a, b, w in signs)
    return np.asarray(total / (4.0 * sizes[i] * sizes[j]))


def _of_occasions(design: Design, assumed: Assumed) -> Iterator[Array]:
    """R's derivatives in every variance and covariance of the occasions."""
    residual = design.residual
    codes, at = np.asarray(residual.codes), np.asarray(residual.time, dtype=np.intp)
    same = codes[:, None] == codes[None, :]
    scale = np.ones(len(design.y))
    for coefficient, values in zip(assumed.spread, () if residual.spread is None else residual.spread.values):
        scale = scale * np.exp(coefficient * values)
    if design.weights is not None:
        scale = scale / np.sqrt(design.weights)
    whole = same * np.outer(scale, scale)
    level = np.zeros(len(at), dtype=np.intp) if residual.level is None else np.asarray(residual.level)
    for k in range(max(len(residual.levels), 1)):
        for a in range(len(residual.labels)):
            for b in range(a + 1):
                here, there = (at == a) & (level == k), (at == b) & (level == k)
                yield whole * (np.outer(here, there) | np.outer(there, here))
