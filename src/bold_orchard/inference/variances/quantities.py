"""What intervals are made for: standard deviations, correlations and residual parameters as functions of the search's own.

The point psi holds theta, phi and log sigma^2, sigma^2 not profiled out.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial, singledispatch
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Clause, Design
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.estimation.generalized import GeneralizedModel
from bold_orchard.estimation.random_spread import SpreadModel
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.summary import residual_variance
from bold_orchard.likelihood.gaussian import Criterion, GaussianPoint

Array = NDArray[Any]
FAR = 16.0  # phi at which a correlation is as good as at its edge


def identity(x: float) -> float:
    return x


@dataclass(frozen=True)
class Quantity:
    """One parameter. ``value_and_slope`` gives it and its slope (m + 1,) on a scale t that is smooth inside the model.

    ``back`` maps t to the value reported; ``low`` and ``high`` are the edges of the model in t, ``ends`` the values there,
    ``slack`` how near in t is as good as there. ``parts`` are the SDs of a correlation: where one vanishes it may be anything.
    """

    kind: str
    parameter: str
    group: str
    term: str
    term2: str | None
    value_and_slope: Callable[[Array], tuple[float, Array]]
    back: Callable[[float], float] = identity
    low: float = -np.inf
    high: float = np.inf
    ends: tuple[float, float] = (-np.inf, np.inf)
    slack: float = 0.0
    parts: tuple[Quantity, ...] = ()

    def at(self, psi: Array) -> float:
        return self.value_and_slope(psi)[0]

    def exists(self, psi: Array) -> bool:
        """A correlation does not where one of its SDs is zero."""
        return all(part.at(psi) > 0 for part in self.parts)

    def slope(self, psi: Array) -> Array:
        return self.value_and_slope(psi)[1]


def theta_of(c: Criterion, psi: Array) -> tuple[Array, float]:
    """The criterion's own parameters and sigma^2."""
    return (psi if c.absolute else psi[:-1]), float(np.exp(psi[-1]))


class Effects:
    """The covariance of one unit's effects on the user's scale and its slopes, at the point last asked for."""

    def __init__(self, c: Any, block: int) -> None:
        self.c, self.block, self.structure, self.place = c, block, c.structures[block], c.slices[block]
        self.profiled = c.profiled
        self.back = np.linalg.inv(c.products.z_to_work[block])
        self._last: tuple[bytes, Array, Array] | None = None

    def at(self, psi: Array) -> tuple[Array, Array]:
        """G (k, k) and dG / dpsi (m + 1, k, k)."""
        key = psi.tobytes()
        if self._last is None or self._last[0] != key:
            structure, absolute = self.structure, self.profiled and self.c.absolute
            sigma2 = float(np.exp(psi[-1])) if self.profiled else 1.0
            fixed = structure.fixed * (np.exp(-0.5 * psi[-1]) if absolute else 1.0)
            t = self.back @ (fixed + np.tensordot(psi[self.place], structure.basis, axes=1))
            half = sigma2 * (self.back @ structure.basis) @ t.T
            slopes = np.zeros((len(psi), *t.shape))
            slopes[self.place] = half + half.transpose(0, 2, 1)
            if self.profiled:
                scaled = self.back @ fixed if absolute else np.zeros_like(t)
                slopes[-1] = sigma2 * (t @ t.T - 0.5 * (scaled @ t.T + t @ scaled.T))
            g = sigma2 * t @ t.T
            if self.profiled and self.c.vary is not None:
                g, slopes = self._at_zero(psi, g, slopes)
            self._last = key, g, slopes
        return self._last[1:]

    def _at_zero(self, psi: Array, g: Array, slopes: Array) -> tuple[Array, Array]:
        """Where SDs depend on columns: the covariance at their zero instead of their means."""
        c = self.c
        grown = c.vary.to_zero(psi[c.alpha], self.block, len(g))
        both = np.outer(grown, grown)
        g, slopes = g * both, slopes * both
        for part, at in zip(c.vary.parts, c.vary.slices()):
            if part.unit == self.block:
                own = np.zeros(len(g))
                own[part.columns] = 1.0
                for k, ratio in zip(range(at.start, at.stop), part.shift / part.sd):
                    slopes[c.alpha.start + k] = -ratio * (own[:, None] * g + g * own)
        return g, slopes

    def sd(self, psi: Array, i: int) -> tuple[float, Array]:
        g, slopes = self.at(psi)
        value = float(np.sqrt(max(g[i, i], 0.0)))
        return value, slopes[:, i, i] / (2.0 * value) if value > 0 else np.zeros(len(psi))

    def element(self, psi: Array, i: int, j: int) -> tuple[float, Array]:
        g, slopes = self.at(psi)
        return float(g[i, j]), slopes[:, i, j]

    def angle(self, psi: Array, i: int, j: int) -> tuple[float, Array]:
        """arcsin of the correlation; 0 where a variance is zero."""
        g, slopes = self.at(psi)
        scale = float(np.sqrt(g[i, i] * g[j, j]))
        r = float(np.clip(g[i, j] / scale, -1.0, 1.0)) if scale > 0 else 0.0
        if scale == 0 or abs(r) == 1.0:
            return float(np.arcsin(r)), np.zeros(len(psi))
        change = slopes[:, i, j] / scale - 0.5 * r * (slopes[:, i, i] / g[i, i] + slopes[:, j, j] / g[j, j])
        return float(np.arcsin(r)), change / np.sqrt(1.0 - r**2)


def quantities(fit: Fit, covariances: bool = False) -> list[Quantity]:
    """Every SD and correlation (or covariance) in the order of the sentence, the residual's parameters last."""
    out = [q for clause in fit.design.clauses for q in _of_clause(fit, clause, covariances)]
    return [*out, *_of_vary(fit), *_own(fit.model)]


def _of_vary(fit: Fit) -> Iterator[Quantity]:
    """Coefficients of the columns on which SDs of effects depend."""
    c: Any = fit.criterion
    if not c.profiled or c.vary is None:
        return
    clauses = [x for x in fit.design.clauses if x.vary is not None]
    for clause, part, at in zip(clauses, c.vary.parts, c.vary.slices()):
        group = fit.design.label_of(clause)
        assert clause.vary is not None
        for k, name in enumerate(clause.vary.names):
            yield Quantity("vary", f"vary({group}: {name})", group, f"vary {name}", None,
                           partial(_entry, at=c.alpha.start + at.start + k, scale=float(part.sd[k])))  # fmt: skip


@singledispatch
def _own(model: object) -> Iterator[Quantity]:
    """Parameters that belong to no unit: of the residual, or of the family."""
    raise NotImplementedError(type(model).__name__)


@_own.register
def _(model: GaussianModel) -> Iterator[Quantity]:
    return _of_residual(model.design, model.criterion, model.evaluation)


@_own.register
def _(model: SpreadModel) -> Iterator[Quantity]:
    """The residual SD of a typical unit at the baseline, and the coefficients of the spread clause."""
    design, c = model.design, model.criterion

    def sd(psi: Array) -> float:
        return float(np.sqrt(residual_variance(design, c, psi[c.phi], float(np.exp(psi[-1])))))

    yield Quantity(
        "residual", "sd(residual)", "residual", "residual", None, differenced(sd), low=0.0, ends=(0.0, np.inf)
    )
    yield from _of_spread(design, c)


@_own.register
def _(model: GeneralizedModel) -> Iterator[Quantity]:
    """The family's own, each on the unbounded scale of the search."""
    c = model.criterion
    for own in c.family.own:
        at = c.extra.start + own.place
        yield Quantity(own.name, own.name, "residual", own.name, None, partial(_entry, at=at, scale=1.0), own.back)


def fixed_quantities(fit: Fit) -> list[Quantity]:
    """Coefficients (and thresholds) of a generalized fit as functions of its parameters; aliased ones are left out."""
    c: Any = fit.criterion
    known: Any = fit.known
    names = [fit.design.coefficient_labels[k] for k in c.products.standard.kept]
    out = []
    if fit.design.graded:
        means = np.array([fit.design.fixed.values[k].mean() for k in c.products.standard.kept])
        for j, (low, high) in enumerate(itertools.pairwise(fit.design.levels)):

            def threshold(psi: Array, j: int = j) -> tuple[float, Array]:
                slope = np.zeros(len(psi))
                slope[c.extra] = c.family.thresholds_slope(psi[c.extra])[j]
                slope[: c.p] = means @ known.to_user
                return float(c.family.thresholds(psi[c.extra])[j] + slope[: c.p] @ psi[: c.p]), slope

            name = f"threshold[{low}|{high}]"
            out.append(Quantity("fixed", name, "fixed", name, None, threshold))
    for name, row in zip(names, known.to_user):
        whole = np.concatenate([row, np.zeros(len(c.bounded) - c.p)])
        out.append(Quantity("fixed", name, "fixed", name, None, partial(_combination, row=whole)))
    return out


def _combination(psi: Array, row: Array) -> tuple[float, Array]:
    return float(row @ psi), row


def _of_clause(fit: Fit, clause: Clause, covariances: bool) -> Iterator[Quantity]:
    names, group = clause.part.names, fit.design.label_of(clause)
    if clause.given is not None:
        return
    effects, first = Effects(fit.criterion, clause.block), clause.columns.start
    sds = [Quantity("sd", f"sd({group}: {name})", group, name, None,
                    partial(effects.sd, i=first + i), low=0.0, ends=(0.0, np.inf)) for i, name in enumerate(names)]  # fmt: skip
    yield from sds
    if not clause.kind.correlated:
        return
    for i, j in itertools.combinations(range(len(names)), 2):
        at = {"i": first + i, "j": first + j}
        if covariances:
            yield Quantity("covariance", f"covariance({group}: {names[i]}, {names[j]})", group, names[i], names[j],
                           partial(effects.element, **at))  # fmt: skip
        else:
            yield Quantity("correlation", f"correlation({group}: {names[i]}, {names[j]})", group, names[i], names[j],
                           partial(effects.angle, **at), **ANGLE, parts=(sds[i], sds[j]))  # fmt: skip


def _sine(t: float) -> float:
    return float(np.sin(t))


ANGLE: Any = {"back": _sine, "low": -np.pi / 2, "high": np.pi / 2, "ends": (-1.0, 1.0), "slack": 1e-4}


def _of_residual(design: Design, c: Criterion, e: GaussianPoint) -> Iterator[Quantity]:
    if c.correlated is not None and not c.correlated.rows.one_variance:
        yield from _of_occasions(c)
    else:

        def sd(psi: Array) -> float:
            theta, sigma2 = theta_of(c, psi)
            return float(np.sqrt(residual_variance(design, c, theta[c.phi], sigma2)))

        yield Quantity("residual", "sd(residual)", "residual", "residual", None, differenced(sd),
                       low=0.0, ends=(0.0, np.inf))  # fmt: skip
    if c.correlated is None:
        return
    at, rows = c.phi.start, c.correlated.rows

    def rho(t: float) -> float:
        phi = e.theta[c.phi].copy()
        phi[0] = t
        return float(rows.parameters(phi, 1.0)["rho"])

    ends = rows.rho_range(rho)
    if ends is not None:
        yield Quantity("rho", "rho", "residual", "rho", None, partial(_entry, at=at, scale=1.0), rho,
                       0.0 if c.nonnegative[at] else -FAR, FAR, ends)  # fmt: skip
    yield from _of_spread(design, c)


def _of_spread(design: Design, c: Any) -> Iterator[Quantity]:
    """Coefficients of the spread clause's columns."""
    spread = design.residual.spread
    if spread is None:
        return
    first = c.phi.stop - len(spread.names)
    for k, (name, values) in enumerate(zip(spread.names, spread.values)):
        yield Quantity("spread", f"spread {name}", "residual", name, None,
                       partial(_entry, at=first + k, scale=float(values.std())))  # fmt: skip


def _entry(psi: Array, at: int, scale: float) -> tuple[float, Array]:
    out = np.zeros(len(psi))
    out[at] = 1.0 / scale
    return float(psi[at]) / scale, out


def _of_occasions(c: Criterion) -> Iterator[Quantity]:
    """SDs and correlations of the occasions of an unstructured residual covariance."""
    assert c.correlated is not None
    rows = c.correlated.rows

    def covariance(psi: Array) -> Array:
        theta, sigma2 = theta_of(c, psi)
        return np.asarray(rows.parameters(theta[c.phi], sigma2)["covariance"])

    labels = [str(v) for v in rows.parameters(np.asarray(rows.start), 1.0)["occasions"]]
    for i, label in enumerate(labels):

        def sd(psi: Array, i: int = i) -> float:
            return float(np.sqrt(covariance(psi)[i, i]))

        yield Quantity("residual", f"sd(residual: {label})", "residual", label, None, differenced(sd),
                       low=0.0, ends=(0.0, np.inf))  # fmt: skip
    for i, j in itertools.combinations(range(len(labels)), 2):

        def angle(psi: Array, i: int = i, j: int = j) -> float:
            v = covariance(psi)
            return float(np.arcsin(np.clip(v[i, j] / np.sqrt(v[i, i] * v[j, j]), -1.0, 1.0)))

        name = f"correlation(residual: {labels[i]}, {labels[j]})"
        yield Quantity("correlation", name, "residual", labels[i], labels[j], differenced(angle), **ANGLE)


def differenced(value: Callable[[Array], float]) -> Callable[[Array], tuple[float, Array]]:
    """A cheap function with its slope by central differences."""

    def value_and_slope(psi: Array) -> tuple[float, Array]:
        out = np.empty(len(psi))
        for i in range(len(psi)):
            h = 1e-6 * max(abs(psi[i]), 1e-2)
            up, down = psi.copy(), psi.copy()
            up[i] += h
            down[i] -= h
            out[i] = (value(up) - value(down)) / (2 * h)
        return value(psi), out

    return value_and_slope
