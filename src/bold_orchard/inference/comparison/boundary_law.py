"""The law of a likelihood ratio that tests variances at zero.

Asymptotically the ratio is that of one normal observation whose mean lies in a cone: covariances are free, what is new
among the variances is positive semi-definite (Self & Liang 1987, Stram & Lee 1994). For one new variance with q
covariances that is half chi2(q) + half chi2(q + 1); beyond, the law is simulated from the expected information.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.design.design import Clause
from bold_orchard.inference.comparison.nested import homes
from bold_orchard.inference.fit import Fit
from bold_orchard.likelihood.expected_information import MOST_EFFECTS, moments, widest
from bold_orchard.likelihood.gaussian import GaussianPoint

Array = NDArray[Any]
DRAWS, DRAWS_WIDE = 20_000, 3_000  # p to within 0.003; fewer where every projection is a search
STEPS = 300  # of the projection on a cone; some thirty are usual


@dataclass(frozen=True)
class Tested:
    """Directions of the larger model's covariances (unit, E on the working scale).

    First ``free`` ones that may go either way, then for each of ``squares`` the k (k + 1) / 2 elements of a matrix that
    must be positive semi-definite (rows of its lower triangle), then those that both models have.
    """

    directions: list[tuple[int, Array]]
    free: int
    squares: tuple[int, ...]

    @property
    def size(self) -> int:
        return self.free + sum(k * (k + 1) // 2 for k in self.squares)


def simulated_p(small: Fit, large: Fit, chisq: float, df: int, seed: int) -> float | None:
    """P(ratio > chisq) when several variances are zero; None where the information is out of reach.

    For z = R u with R^2 chi-squared on df degrees of freedom and u uniform on the sphere, the ratio is R^2 s(u), s(u) the
    squared length of u's projection on the cone; so p is the mean of P(chi2_df > chisq / s(u)).
    """
    if not large.criterion.profiled:
        return None
    c, known = large.criterion, tested(small, large)
    if known is None or not c.linear or not c.concentrated or widest(c.products) > MOST_EFFECTS:
        return None
    extra, t = df - known.size, known.size
    if extra < 0:
        return None
    if chisq <= 0:
        return 1.0
    information = moments(_null_point(small, large), known.directions).information
    across = information[:t, t:]
    inner = information[:t, :t] - across @ np.linalg.pinv(information[t:, t:], hermitian=True) @ across.T
    shares = projected_shares(inner, known.free, known.squares, extra, np.random.default_rng(seed))
    return float(np.mean(np.where(shares > 1e-12, special.chdtrc(df, chisq / np.maximum(shares, 1e-12)), 0.0)))


def _null_point(small: Fit, large: Fit) -> GaussianPoint:
    """The larger model at the smaller one's estimates, new variances zero."""
    c, sigma2 = large.criterion, small.evaluation.sigma2
    gammas = {f: np.zeros((s.size, s.size)) for f, s in enumerate(c.structures)}
    for clause, home in homes(small.design, large.design) or []:
        places = [home.columns.start + home.part.names.index(n) for n in clause.part.names]
        g = small.evaluation.covariance(clause.block)[clause.columns, clause.columns]
        to_work = c.products.z_to_work[home.block][:, places]
        gammas[home.block] += to_work @ g @ to_work.T / sigma2
    e = c.at(
        np.concatenate([np.zeros(0), *(s.of_covariance(gammas[f]) for f, s in enumerate(c.structures))])
    ).with_sigma2(sigma2)
    return e


def tested(small: Fit, large: Fit) -> Tested | None:
    """What the larger model's covariances have and the smaller's lack; None for pairs of structures not foreseen."""
    pairs = homes(small.design, large.design)
    if pairs is None:
        return None
    free: list[tuple[int, Array]] = []
    squares: list[tuple[int, list[tuple[int, Array]]]] = []
    both: list[tuple[int, Array]] = []
    for clause in large.design.clauses:
        inside = [s for s, home in pairs if home is clause]
        if any(not set(s.part.names) <= set(clause.part.names) for s in inside):
            return None
        if not _sorted_in(large, clause, inside, free, squares, both):
            return None
    ordered = [*free, *(d for _, ds in squares for d in ds), *both]
    return Tested(ordered, len(free), tuple(k for k, _ in squares))


def _sorted_in(
    large: Fit, clause: Clause, inside: list[Clause], free: list[tuple[int, Array]],
    squares: list[tuple[int, list[tuple[int, Array]]]], both: list[tuple[int, Array]],
) -> bool:  # fmt: skip
    """Put the directions of one clause where they belong; False when its pair of structures is not foreseen."""
    cone, names = clause.kind.cone, clause.part.names
    old = {n: s for s in inside for n in s.part.names}
    new = [n for n in names if n not in old]

    def working(e: Array) -> tuple[int, Array]:
        to_work = large.criterion.products.z_to_work[clause.block][:, clause.columns]
        return clause.block, to_work @ e @ to_work.T

    def direction(elements: list[tuple[str, str]]) -> tuple[int, Array]:
        e = np.zeros((len(names), len(names)))
        for a, b in elements:
            i, j = names.index(a), names.index(b)
            e[i, j] = e[j, i] = 1.0
        return working(e)

    if cone == "spectral" and len(names) > 1:
        if inside:
            return False
        squares += [(1, [working(b)]) for b in clause.kind(len(names)).basis]
        return True
    if cone == "separate" or len(names) == 1:
        both += [direction([(n, n)]) for n in names if n in old]
        squares += [(1, [direction([(n, n)])]) for n in new]
        return True
    if cone != "matrix" or any(s.kind.cone not in ("matrix", "separate") and len(s.part.names) > 1 for s in inside):
        return False
    for a, b in itertools.combinations(names, 2):
        if a in new and b in new:
            continue
        shared = a in old and b in old and old[a] is old[b] and old[a].structure.kind == "unstructured"
        (both if shared else free).append(direction([(a, b)]))
    both += [direction([(n, n)]) for n in names if n in old]
    if new:
        own = [direction([(new[i], new[j])]) for i in range(len(new)) for j in range(i + 1)]
        squares.append((len(new), own))
    return True


def projected_shares(
    information: Array, free: int, squares: tuple[int, ...], extra: int, rng: np.random.Generator
) -> Array:
    """s(u) for many u: |u on what is free|^2 and the squared length of the rest's projection on the cone.

    ``information`` (t, t) of the tested parameters, free ones first; ``extra`` more free directions beside them.
    """
    draws = DRAWS if max(squares, default=1) <= 2 else DRAWS_WIDE
    t = len(information)
    u = rng.standard_normal((draws, t + extra))
    u /= np.linalg.norm(u, axis=1, keepdims=True)
    shares = (u[:, :free] ** 2).sum(axis=1) + (u[:, t:] ** 2).sum(axis=1)
    scale = _congruence(np.diag(information)[free:], squares)
    whole = np.concatenate([1.0 / np.sqrt(np.diag(information)[:free]), scale])
    low = np.linalg.cholesky(information * np.outer(whole, whole))[free:, free:]
    return np.asarray(shares + _cone_length(low, u[:, free:t], squares))


def _congruence(diagonal: Array, squares: tuple[int, ...]) -> Array:
    """Factors of the elements of each square that make its diagonal's information 1 (a change of units).

    Off-diagonal elements are taken times sqrt(2), so that the sum of squares is that of the whole matrix.
    """
    out, at = [], 0
    for k in squares:
        places = [(i, j) for i in range(k) for j in range(i + 1)]
        unit = [diagonal[at + places.index((i, i))] ** -0.25 for i in range(k)]
        out += [unit[i] * unit[j] / (1.0 if i == j else np.sqrt(2.0)) for i, j in places]
        at += len(places)
    return np.array(out)


def _cone_length(low: Array, z: Array, squares: tuple[int, ...]) -> Array:
    """Squared length of the projection of each z (draws, m) on {L'x: x in the cone}, by accelerated projected gradients."""
    if not z.shape[1]:
        return np.zeros(len(z))
    a, b = low @ low.T, z @ low.T
    step = 1.0 / float(np.linalg.eigvalsh(a)[-1])
    x = ahead = _onto_cone(b @ np.linalg.inv(a), squares)
    pace = 1.0
    for _ in range(STEPS):
        following = _onto_cone(ahead - step * (ahead @ a - b), squares)
        quicker = (1.0 + np.sqrt(1.0 + 4.0 * pace**2)) / 2.0
        ahead = following + (pace - 1.0) / quicker * (following - x)
        moved = float(np.abs(following - x).max())
        x, pace = following, quicker
        if moved < 1e-9:
            break
    return np.asarray(((x @ low) ** 2).sum(axis=1))


def _onto_cone(x: Array, squares: tuple[int, ...]) -> Array:
    """Every square's nearest positive semi-definite matrix."""
    out, at = np.empty_like(x), 0
    for k in squares:
        m = k * (k + 1) // 2
        own = x[:, at : at + m]
        if k == 1:
            out[:, at] = np.maximum(own[:, 0], 0.0)
        elif k == 2:
            out[:, at : at + m] = _onto_two(own)
        else:
            rows, columns = np.tril_indices(k)
            full = np.zeros((len(x), k, k))
            full[:, rows, columns] = full[:, columns, rows] = own / np.where(rows == columns, 1.0, np.sqrt(2.0))
            values, vectors = np.linalg.eigh(full)
            full = np.einsum("nik,nk,njk->nij", vectors, np.maximum(values, 0.0), vectors, optimize=True)
            out[:, at : at + m] = full[:, rows, columns] * np.where(rows == columns, 1.0, np.sqrt(2.0))
        at += m
    return out


def _onto_two(own: Array) -> Array:
    """The same for 2 x 2 matrices (a, sqrt(2) b, c): a circular cone around a = c."""
    middle, side = (own[:, 0] + own[:, 2]) / np.sqrt(2.0), (own[:, 0] - own[:, 2]) / np.sqrt(2.0)
    length = np.hypot(side, own[:, 1])
    outside = length > np.abs(middle)
    centre = np.where(outside, (middle + length) / 2.0, np.where(middle > 0, middle, 0.0))
    share = np.where(outside, centre / np.maximum(length, 1e-300), (middle > 0).astype(float))
    side = side * share
    return np.column_stack([(centre + side) / np.sqrt(2.0), own[:, 1] * share, (centre - side) / np.sqrt(2.0)])
