"""What each unit does to the estimates: the fit without it, by one step for all units or by true refits."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.crossproducts.batched import chunks
from bold_orchard.design.design import UnitCodes
from bold_orchard.errors import OrchardError
from bold_orchard.inference.fit import Fit, on_rows
from bold_orchard.inference.summary import numbers
from bold_orchard.inference.variances.information import is_large, parameter_covariance
from bold_orchard.inference.variances.quantities import Quantity, fixed_quantities, quantities
from bold_orchard.likelihood.leave_out import LeftOut, applies, leave_out
from bold_orchard.progress import Progress
from bold_orchard.threads import at_once
from bold_orchard.workers import run

Array = NDArray[Any]
# levels times rows: a few seconds, half a second, and refits added without being asked
MOST_WORK, QUICK_WORK, SPARE_WORK = 2_000_000, 200_000, 60_000
MOST_LEVELS, FEW_LEVELS = 300, 30  # levels left out one by one in seconds, and at once without asking
LONG = 0.02  # decrease of the deviance still promised after one step, from which the refit tells another story
RANK = 1e-8  # part of a column that must be its own to count for rank


@dataclass(frozen=True)
class Influence:
    """Over the J levels of one unit: estimates without each, and how far they moved in their own uncertainty.

    ``fixed`` (J, p) and ``components`` (J, c) stand under ``terms`` and ``parameters``, NaN where the other rows cannot tell;
    ``cook`` and ``cook_components`` (J,); ``p`` (J,) asks whether a level agrees with the others, NaN where it was not asked.
    """

    unit: UnitCodes
    terms: list[str]
    parameters: list[str]
    fixed_all: Array
    components_all: Array
    se: Array
    fixed: Array
    components: Array
    cook: Array
    cook_components: Array
    p: Array
    exact: NDArray[np.bool_]

    def largest(self, shown: int) -> Array:
        """The levels with the largest Cook's distances, the largest first; those without one are left out."""
        order = np.argsort(-np.where(np.isfinite(self.cook), self.cook, -np.inf), kind="stable")[:shown]
        return order[np.isfinite(self.cook[order])]

    def rows(self, at: Array | slice = slice(None)) -> list[dict[str, Any]]:
        """One entry per level, or for some of them, as in the contract."""
        parts = {
            "without": (self.terms, self.fixed),
            "change": (self.terms, self.fixed - self.fixed_all),
            "components_without": (self.parameters, self.components),
            "components_change": (self.parameters, self.components - self.components_all),
        }
        plain = {key: (names, numbers(values[at])) for key, (names, values) in parts.items()}
        se = dict(zip(self.terms, numbers(self.se)))
        single = {"cooks_distance": self.cook, "cooks_distance_components": self.cook_components, "p": self.p}
        figures = {key: numbers(values[at]) for key, values in single.items()}
        counts, exact = self.unit.counts[at].tolist(), self.exact[at].tolist()
        return [
            {"group": self.unit.name, "level": level, "rows": counts[j]}
            | {key: values[j] for key, values in figures.items()}
            | {key: dict(zip(names, values[j])) for key, (names, values) in plain.items()}
            | {"se": se, "exact": exact[j]}
            for j, level in enumerate(np.array(self.unit.texts, dtype=object)[at])
        ]


def affordable(fit: Fit, unit: UnitCodes) -> bool:
    """Whether one-step influence of a unit's levels takes seconds at most."""
    quick = fit.criterion.profiled and applies(fit.criterion) and unit.name in [u.name for u in fit.design.groups]
    return quick or (unit.size <= MOST_LEVELS and unit.size * len(fit.design.y) <= MOST_WORK)


def one_step(fit: Fit, unit: UnitCodes) -> LeftOut | None:
    """One step of the search without each level, for all levels at once; None where the model has no such road."""
    block = next((f for f, b in enumerate(fit.design.blocks) if b.unit.name == unit.name), None)
    if block is None or unit.size < 2 or not fit.criterion.profiled or not applies(fit.criterion):
        return None
    return leave_out(fit.evaluation, block)


def influence(fit: Fit, unit: UnitCodes, exact: bool, report: Progress, step: LeftOut | None = None) -> Influence:
    """Leave each level of a unit out (Cook & Weisberg 1982; Demidenko & Stukel 2005).

    Cook's distance is (b_(j) - b)' C^-1 (b_(j) - b) / p with C the covariance of b; that of the components is made on the
    scale of SDs and arcsines of correlations. Without ``exact`` it is one step of the search for each level, parameters on
    their boundary held; where the step is long, or units cross, and the data are small, the refit is made after all.
    ``step`` is that of ``one_step``, where it has been made.
    Raises OrchardError when the unit has one level.
    """
    if unit.size < 2:
        raise OrchardError(f"{unit.name} has one level, so nothing is left without it; name another unit with --unit")
    followed = quantities(fit)
    step = one_step(fit, unit) if step is None else step
    if step is not None:
        fixed, components, p = _at_once(fit, step)
        refitted = np.ones(unit.size, dtype=bool) if exact else _worth_it(fit, step)
        again = np.flatnonzero(refitted)
    else:
        fixed = np.full((unit.size, len(_fixed(fit))), np.nan)
        components, p = np.full((unit.size, len(followed)), np.nan), np.full(unit.size, np.nan)
        again = np.arange(unit.size)
        few = unit.size <= FEW_LEVELS and unit.size * len(fit.design.y) <= QUICK_WORK
        refitted = np.full(unit.size, exact or few)
    if len(again):
        fixed[again], components[again] = _one_by_one(fit, unit, again, refitted, report)
    whole = np.array(list(_fixed(fit).values()))
    psi = fit.evaluation.psi
    all_components = np.array([q.back(q.at(psi)) for q in followed])
    covariance = _fixed_covariance(fit)
    return Influence(
        unit,
        list(_fixed(fit)),
        [q.parameter.label for q in followed],
        whole,
        all_components,
        np.sqrt(np.maximum(np.diag(covariance), 0.0)),
        fixed,
        components,
        _distance(fixed - whole, covariance),
        _component_distance(fit, followed, components, all_components),
        p,
        refitted,
    )


def _worth_it(fit: Fit, left: LeftOut) -> NDArray[np.bool_]:
    """Levels whose step is so long that a refit is better, the longest first, as many as a second or so allows."""
    out = ~left.reached
    long = np.flatnonzero(left.reached & (left.gain > LONG))
    most = int(SPARE_WORK / len(fit.design.y))
    out[long[np.argsort(-left.gain[long])][:most]] = True
    return np.asarray(out)


def _fixed(fit: Fit) -> dict[str, float]:
    """The coefficients that are not aliased; thresholds of grades first."""
    if not fit.criterion.profiled:
        psi = fit.evaluation.psi
        return {q.parameter.term: q.at(psi) for q in fixed_quantities(fit)}
    kept = fit.criterion.products.standard.kept
    return {fit.design.fixed.names[k]: float(b) for k, b in zip(kept, fit.evaluation.b)}


def _fixed_covariance(fit: Fit) -> Array:
    if fit.criterion.profiled:
        return np.asarray(fit.evaluation.b_covariance)
    psi = fit.evaluation.psi
    slopes = np.array([q.slope(psi) for q in fixed_quantities(fit)]).reshape(-1, len(psi))
    return np.asarray(slopes @ fit.known.parameter_covariance @ slopes.T)


def _at_once(fit: Fit, left: LeftOut) -> tuple[Array, Array, Array]:
    """Coefficients (J, p) and components (J, c) on the user's scale, and the p-value of agreement (J,)."""
    e = fit.evaluation
    c, standard = e.criterion, e.criterion.products.standard
    back = np.linalg.inv(standard.to_work)
    fixed = (standard.b0 + left.b_work) @ back.T
    fixed[~left.reached] = np.nan
    columns = []
    for clause in fit.design.clauses:
        structure, at = c.structures[clause.block], c.slices[clause.block]
        t = structure.fixed + np.einsum("ja,akl->jkl", left.theta[:, at], structure.basis)
        t = np.linalg.inv(c.products.z_to_work[clause.block]) @ t
        g = (left.sigma2[:, None, None] * (t @ t.transpose(0, 2, 1)))[:, clause.columns, clause.columns]
        sds = np.sqrt(np.maximum(np.einsum("jaa->ja", g), 0.0))
        columns += list(sds.T)[: len(clause.names)]  # of a wiggle one
        if clause.kind.correlated:
            with np.errstate(all="ignore"):
                r = np.clip(g / (sds[:, :, None] * sds[:, None, :]), -1.0, 1.0)
            columns += [r[:, a, b] for a, b in zip(*np.triu_indices(len(g[0]), 1))]
    columns.append(np.sqrt(left.sigma2))
    components = np.stack(columns, axis=1)
    components[~left.reached] = np.nan
    return fixed, components, _agreement(fit, left)


def _agreement(fit: Fit, left: LeftOut) -> Array:
    """P of a level that agrees with the others: b_(j) - b has covariance C_(j) - C at the same variances."""
    e = fit.evaluation
    p = len(e.b_work)
    out = np.full(len(left.theta), np.nan)
    ok = np.flatnonzero(left.reached)
    if not p or not len(ok):
        return out
    root = np.linalg.cholesky(e.xx)
    inverse = np.linalg.inv(root)

    def some(at: slice) -> None:
        levels = ok[at]
        moved = (left.held[levels] - e.b_work) @ root
        inner = inverse @ left.grams[levels] @ inverse.T
        values, vectors = np.linalg.eigh(inner)  # of C^-1/2 C_(j)^-1 C^-1/2: those of C_(j) - C are 1 / value - 1
        values = np.clip(values, 1e-12, 1.0)
        own = np.einsum("jab,ja->jb", vectors, moved) ** 2
        more = 1.0 / values - 1.0
        seen = more > RANK
        statistic = np.where(seen, own / np.where(seen, more, 1.0), 0.0).sum(axis=1) / e.sigma2
        rank = seen.sum(axis=1)
        out[levels] = np.where(rank > 0, special.chdtrc(np.maximum(rank, 1), statistic), np.nan)

    at_once(some, chunks(len(ok)))
    return out


def _one_by_one(
    fit: Fit, unit: UnitCodes, levels: Array, exact: NDArray[np.bool_], report: Progress
) -> tuple[Array, Array]:
    """Estimates without each of some levels, by the likelihood of the rows left."""
    names, n_components = list(_fixed(fit)), len(quantities(fit))

    def one(i: int) -> Array:
        out = np.full(len(names) + n_components, np.nan)
        keep = np.flatnonzero(unit.codes != levels[i])
        try:
            with np.errstate(all="ignore"):
                there = on_rows(fit, keep, bool(exact[levels[i]]))
        except (OrchardError, np.linalg.LinAlgError):
            return out
        found = _fixed(there)
        psi = there.evaluation.psi
        components = [q.back(q.at(psi)) for q in quantities(there)]
        if len(components) == n_components and there.converged:
            out[len(names) :] = components
            out[: len(names)] = [found.get(name, np.nan) for name in names]
        return out

    made = run(one, len(levels), report)
    return made[:, : len(names)], made[:, len(names) :]


def _distance(change: Array, covariance: Array) -> Array:
    """change' C^- change / rank per row; coefficients that the other rows cannot tell are left out of it."""
    if not change.shape[1]:
        return np.full(len(change), np.nan)
    d = np.sqrt(np.maximum(np.diag(covariance), 1e-300))
    inverse = np.linalg.pinv(covariance / np.outer(d, d), rcond=1e-10, hermitian=True)
    rank = int(np.linalg.matrix_rank(covariance / np.outer(d, d), tol=1e-10, hermitian=True))
    scaled = np.where(np.isnan(change), 0.0, change / d)
    out = np.einsum("ja,ab,jb->j", scaled, inverse, scaled) / max(rank, 1)
    return np.where(np.isnan(change).all(axis=1), np.nan, out)


def _parameter_covariance(fit: Fit) -> Array:
    """That of all parameters; of large fits the search's own Hessian is near enough to measure distances by."""
    if fit.criterion.profiled and fit.model.found.hessian.size and is_large(fit.evaluation):
        return parameter_covariance(fit.evaluation, fit.model.found.hessian)
    return fit.known.parameter_covariance


def _component_distance(fit: Fit, followed: list[Quantity], without: Array, whole: Array) -> Array:
    psi = fit.evaluation.psi
    slopes = np.array([q.slope(psi) for q in followed]).reshape(-1, len(psi))
    covariance = slopes @ _parameter_covariance(fit) @ slopes.T
    free = np.flatnonzero(np.diag(covariance) > 0)

    def straight(values: Array) -> Array:
        return np.stack(
            [np.arcsin(np.clip(values[..., i], -1, 1)) if followed[i].parameter.kind == "correlation" else values[..., i] for i in free],
            axis=-1,
        )  # fmt: skip

    if not len(free):
        return np.full(len(without), np.nan)
    return _distance(straight(without) - straight(whole), covariance[np.ix_(free, free)])
