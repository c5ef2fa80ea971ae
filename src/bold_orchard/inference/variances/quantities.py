"""What intervals are made for: standard deviations, correlations and residual parameters as functions of the search's own.

The point psi holds theta, phi and log sigma^2, sigma^2 not profiled out.
"""

from __future__ import annotations

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
from bold_orchard.likelihood.gaussian import Criterion
from bold_orchard.own_parameter import OwnParameter
from bold_orchard.parameters.catalogue import Catalogue
from bold_orchard.parameters.parameter import Parameter

Array = NDArray[Any]


def identity(x: float) -> float:
    return x


@dataclass(frozen=True)
class Quantity:
    """A parameter as a function of the search's. ``value_and_slope`` gives it and its slope (m + 1,) on a scale t that is smooth inside the model.

    ``back`` maps t to the value reported; ``low`` and ``high`` are the edges of the model in t, ``ends`` the values there,
    ``slack`` how near in t is as good as there. ``parts`` are the SDs of a correlation: where one vanishes it may be anything.
    """

    parameter: Parameter
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
            sigma2 = self.c.split(psi)[1] if self.profiled else 1.0
            fixed = structure.fixed * (np.exp(-0.5 * psi[-1]) if absolute else 1.0)
            t = self.back @ (fixed + np.tensordot(psi[self.place], structure.basis, axes=1))
            half = sigma2 * (self.back @ structure.basis) @ t.T
            slopes = np.zeros((len(psi), *t.shape))
            slopes[self.place] = half + half.transpose(0, 2, 1)
            if self.profiled and not self.c.known:
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
    return [*out, *_of_vary(fit), *_of_rows(fit.model, fit.catalogue, covariances)]


def own_places(fit: Fit) -> list[tuple[Parameter, OwnParameter, int]]:
    """What the residual structure or the family has of its own, each with its place in psi."""
    return _own_places(fit.criterion, fit.catalogue)


def _own_places(c: Any, catalogue: Catalogue) -> list[tuple[Parameter, OwnParameter, int]]:
    if not catalogue.design.additive:
        return [(p, own, c.extra.start + own.place) for p, own in zip(catalogue.family_own, c.family.own)]
    if not catalogue.residual_own:
        return []
    return [(p, own, c.phi.start + own.place) for p, own in zip(catalogue.residual_own, c.correlated.rows.own)]


def _of_vary(fit: Fit) -> Iterator[Quantity]:
    """Coefficients of the columns on which SDs of effects depend."""
    c: Any = fit.criterion
    if not c.profiled or c.vary is None:
        return
    clauses = [own for own in fit.catalogue.clauses if own.vary]
    for own, part, at in zip(clauses, c.vary.parts, c.vary.slices()):
        for k, parameter in enumerate(own.vary):
            yield Quantity(parameter, partial(_entry, at=c.alpha.start + at.start + k, scale=float(part.sd[k])))


@singledispatch
def _of_rows(model: object, catalogue: Catalogue, covariances: bool) -> Iterator[Quantity]:
    """Parameters that belong to no unit: of the residual (correlations of occasions, or their ``covariances``), or of the family."""
    raise NotImplementedError(type(model).__name__)


@_of_rows.register
def _(model: GaussianModel, catalogue: Catalogue, covariances: bool) -> Iterator[Quantity]:
    design, c = model.design, model.criterion
    if design.known_errors:
        return
    if catalogue.residual_sd is None:
        yield from of_occasions(c, catalogue, covariances)
    else:

        def sd(psi: Array) -> float:
            theta, sigma2 = c.split(psi)
            return float(np.sqrt(residual_variance(design, c, theta[c.phi], sigma2)))

        yield Quantity(catalogue.residual_sd, differenced(sd), low=0.0, ends=(0.0, np.inf))
    yield from _of_own(c, catalogue)
    yield from _of_spread(design, c, catalogue)


@_of_rows.register
def _(model: SpreadModel, catalogue: Catalogue, covariances: bool) -> Iterator[Quantity]:
    """The residual SD of a typical unit at the baseline, and the coefficients of the spread clause."""
    design, c = model.design, model.criterion
    assert catalogue.residual_sd is not None

    def sd(psi: Array) -> float:
        return float(np.sqrt(residual_variance(design, c, psi[c.phi], float(np.exp(psi[-1])))))

    yield Quantity(catalogue.residual_sd, differenced(sd), low=0.0, ends=(0.0, np.inf))
    yield from _of_spread(design, c, catalogue)


@_of_rows.register
def _(model: GeneralizedModel, catalogue: Catalogue, covariances: bool) -> Iterator[Quantity]:
    return _of_own(model.criterion, catalogue)


def _of_own(c: Any, catalogue: Catalogue) -> Iterator[Quantity]:
    """What the residual structure or the family has of its own, each on the unbounded scale of the search."""
    for parameter, own, at in _own_places(c, catalogue):
        if own.value is None:
            yield Quantity(parameter, partial(_entry, at=at, scale=1.0), own.back, *own.edges, own.ends)
        else:

            def angle(psi: Array, own: OwnParameter = own) -> float:
                return float(np.arcsin(np.clip(own.at(psi[c.phi]), -1.0, 1.0)))

            yield Quantity(parameter, differenced(angle), **ANGLE)


def fixed_quantities(fit: Fit) -> list[Quantity]:
    """Coefficients (and thresholds) of a generalized fit as functions of its parameters; aliased ones are left out."""
    c: Any = fit.criterion
    known: Any = fit.known
    named, out = [fit.catalogue.coefficients[k] for k in c.products.standard.kept], []
    if fit.design.graded:
        means = np.array([fit.design.fixed.values[k].mean() for k in c.products.standard.kept])
        for j, cut in enumerate(fit.catalogue.thresholds):

            def threshold(psi: Array, j: int = j) -> tuple[float, Array]:
                slope = np.zeros(len(psi))
                slope[c.extra] = c.family.thresholds_slope(psi[c.extra])[j]
                slope[: c.p] = means @ known.to_user
                return float(c.family.thresholds(psi[c.extra])[j] + slope[: c.p] @ psi[: c.p]), slope

            out.append(Quantity(cut, threshold))
    for parameter, row in zip(named, known.to_user):
        whole = np.concatenate([row, np.zeros(len(c.bounded) - c.p)])
        out.append(Quantity(parameter, partial(_combination, row=whole)))
    return out


def _combination(psi: Array, row: Array) -> tuple[float, Array]:
    return float(row @ psi), row


def _of_clause(fit: Fit, clause: Clause, covariances: bool) -> Iterator[Quantity]:
    own, effects, first = fit.catalogue.of(clause), Effects(fit.criterion, clause.block), clause.columns.start
    sds = [Quantity(p, partial(effects.sd, i=first + i), low=0.0, ends=(0.0, np.inf)) for i, p in enumerate(own.sds)]
    yield from sds
    for (i, j), parameter in own.correlations.items():
        at = {"i": first + i, "j": first + j}
        if covariances:
            yield Quantity(parameter.as_covariance, partial(effects.element, **at))
        else:
            yield Quantity(parameter, partial(effects.angle, **at), **ANGLE, parts=(sds[i], sds[j]))


def _sine(t: float) -> float:
    return float(np.sin(t))


ANGLE: Any = {"back": _sine, "low": -np.pi / 2, "high": np.pi / 2, "ends": (-1.0, 1.0), "slack": 1e-4}


def _of_spread(design: Design, c: Any, catalogue: Catalogue) -> Iterator[Quantity]:
    """Coefficients of the spread clause's columns."""
    spread, first = design.residual.spread, c.phi.stop - len(catalogue.spread)
    for k, (parameter, values) in enumerate(zip(catalogue.spread, () if spread is None else spread.values)):
        yield Quantity(parameter, partial(_entry, at=first + k, scale=float(values.std())))


def _entry(psi: Array, at: int, scale: float) -> tuple[float, Array]:
    out = np.zeros(len(psi))
    out[at] = 1.0 / scale
    return float(psi[at]) / scale, out


def of_occasions(c: Criterion, catalogue: Catalogue, covariances: bool = False) -> Iterator[Quantity]:
    """SDs and correlations (or covariances) of what has residual variances of its own: occasions, levels."""
    assert c.correlated is not None
    rows = c.correlated.rows

    def covariance(psi: Array) -> Array:
        theta, sigma2 = c.split(psi)
        return rows.covariance_of_labels(theta[c.phi], sigma2)

    for i, parameter in enumerate(catalogue.occasions):

        def sd(psi: Array, i: int = i) -> float:
            return float(np.sqrt(covariance(psi)[i, i]))

        yield Quantity(parameter, differenced(sd), low=0.0, ends=(0.0, np.inf))
    for (i, j), parameter in catalogue.occasion_correlations.items():

        def angle(psi: Array, i: int = i, j: int = j) -> float:
            v = covariance(psi)
            return float(np.arcsin(np.clip(v[i, j] / np.sqrt(v[i, i] * v[j, j]), -1.0, 1.0)))

        def element(psi: Array, i: int = i, j: int = j) -> float:
            return float(covariance(psi)[i, j])

        if covariances:
            yield Quantity(parameter.as_covariance, differenced(element))
        else:
            yield Quantity(parameter, differenced(angle), **ANGLE)


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
