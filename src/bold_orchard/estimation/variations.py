"""How the covariance of some rows changes with the parameters as they are reported: its first and second derivatives, written out.

Variances and covariances of effects and of occasions, in which V is linear; the residual variance with what its structure reports
(rho, range), by differences; where the residual SD depends on columns the logarithm of that of the baseline and the coefficients.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

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


Residuals = tuple[list[Array], dict[tuple[int, int], Array]]


def variation(
    design: Design, assumed: Assumed, structures: list[Any], sizes: list[float], known: dict[bytes, Residuals]
) -> Variation:
    """Of V over the rows of a design; ``structures`` of every block's effects, ``sizes`` of the steps in each residual parameter, 0 where it
    stands at an edge and is none. ``known`` keeps what was made for rows that stand alike."""
    first = [*_of_effects(design, structures)]
    key = _standing(design)
    if key not in known:
        known[key] = _of_residuals(design, assumed, sizes)
    own, pairs = known[key]
    at = len(first)
    return Variation(np.array([*first, *own]), {(a + at, b + at): v for (a, b), v in pairs.items()})


def _of_effects(design: Design, structures: list[Any]) -> Iterator[Array]:
    for f, (block, structure) in enumerate(zip(design.blocks, structures)):
        z = np.zeros((len(design.y), structure.size))
        for clause in design.clauses:
            if clause.block == f:
                z[:, clause.columns] = np.column_stack(clause.part.values)
        codes, mix = block.unit.codes, block.relationship_factor
        alike = (codes[:, None] == codes[None, :]).astype(float) if mix is None else (mix @ mix.T)[np.ix_(codes, codes)]
        for direction in structure.directions:
            yield (z @ direction @ z.T) * alike


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
    for x in sums:
        at = len(firsts)
        seconds |= {(k, at): x * firsts[k] for k in range(at)}
        firsts.append(x * r)
        seconds[at, at] = x * x * r
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
