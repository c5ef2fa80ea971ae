"""A model's parameters on the scale a person reads them, changed at will, and the model that has them over any rows."""

from __future__ import annotations

import re
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import optimize

from bold_orchard.covariance.residuals.base import RowCovariance
from bold_orchard.design.design import Design
from bold_orchard.errors import OrchardError, unknown_name
from bold_orchard.estimation.arrays import row_order, to_arrays
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.estimation.gaussian_search import make_criterion
from bold_orchard.estimation.model import FittedModel
from bold_orchard.estimation.options import SearchOptions
from bold_orchard.estimation.random_spread import SpreadModel
from bold_orchard.families import family_of
from bold_orchard.families.base import Data, Family
from bold_orchard.likelihood.gaussian import Criterion
from bold_orchard.optimize.protocol import Ending, OptimizeResult

Array = NDArray[Any]
FAR = 16.0  # of a correlation's own parameter, as good as its edge


@dataclass(frozen=True)
class Assumed:
    """Parameters of a model, none of which depends on the rows at hand.

    ``b`` (columns of X), 0 where aliased; ``covariances`` of each block's effects; ``sigma2`` of the residuals, at zero of what their
    spread depends on; ``phi`` of their correlation with ``rho`` where there is one; ``spread`` by column; ``extra`` of the family,
    thresholds for columns that are not centred; ``vary`` of each clause's SDs by column, nothing where they are all alike.
    """

    b: Array
    covariances: tuple[Array, ...]
    sigma2: float = 1.0
    phi: Array = field(default_factory=lambda: np.zeros(0))
    rho: float | None = None
    spread: Array = field(default_factory=lambda: np.zeros(0))
    extra: Array = field(default_factory=lambda: np.zeros(0))
    vary: tuple[Array, ...] = ()


def assumed_of(model: FittedModel[Any, Any]) -> Assumed:
    """The parameters where a model's search ended."""
    design, e = model.design, model.evaluation
    b = np.zeros(len(design.fixed.names))
    b[model.kept] = e.b
    covariances = tuple(np.asarray(e.covariance(f)) for f in range(len(design.blocks)))
    if isinstance(model, SpreadModel):
        sds = model.criterion.rows.centres
        gamma = e.theta[model.criterion.phi] / sds[:, 1]
        return Assumed(b, covariances, e.row_variance * float(np.exp(-2.0 * gamma @ sds[:, 0])), spread=gamma)
    if not isinstance(model, GaussianModel):
        means = np.array([v.mean() for v in design.fixed.values])
        return Assumed(
            b, covariances, extra=model.family.recentred(model.extra, float(means @ b)) if len(b) else model.extra
        )
    c = model.criterion
    phi, sigma2 = e.theta[c.phi], e.sigma2
    middle, width = _spread_columns(design)
    spread = phi[len(phi) - len(width) :] / width
    inner = phi[: len(phi) - len(width)]
    alphas = [] if c.vary is None else [e.theta[c.alpha][at] / p.sd for p, at in zip(c.vary.parts, c.vary.slices())]
    varied = iter(alphas)
    vary = tuple(np.zeros(0) if x.vary is None else next(varied) for x in design.clauses)
    base = sigma2 * float(np.exp(-2.0 * spread @ middle))
    return Assumed(b, covariances, base, inner, _rho(c, phi), spread, vary=vary)


def _spread_columns(design: Design) -> tuple[Array, Array]:
    """Means and SDs of the columns that the residual SD depends on."""
    part = design.residual.spread
    values = () if part is None else part.values
    return np.array([v.mean() for v in values]), np.array([v.std() for v in values])


def _rho(c: Criterion, phi: Array) -> float | None:
    rows = None if c.correlated is None else c.correlated.rows
    if rows is None or rows.rho_range(lambda t: t) is None:
        return None
    return float(rows.parameters(phi, 1.0)["rho"])


def model_at(
    design: Design, options: SearchOptions, assumed: Assumed, rng: np.random.Generator
) -> FittedModel[Any, Any]:
    """The model with these parameters over ``design``, whose outcome is replaced by one that has them as its estimates.

    Of a gaussian model b and sigma^2 have closed forms, so an outcome is made for which these are exactly the assumed ones;
    of others one is drawn. Raises OrchardError for parameters the structures cannot have.
    """
    return (
        _gaussian_at(design, options, assumed, rng)
        if design.additive
        else _generalized_at(design, options, assumed, rng)
    )


def drawn_eta(design: Design, assumed: Assumed, rng: np.random.Generator) -> Array:
    """X b + Z u with fresh effects u, (n,)."""
    return drawn_parts(design, assumed, rng)[0]


def drawn_parts(design: Design, assumed: Assumed, rng: np.random.Generator) -> tuple[Array, Array]:
    """X b + Z u with fresh effects u, and each row's unit's own log spread, both (n,)."""
    own = np.zeros(len(design.y))
    eta = np.zeros(len(design.y))
    for b, values in zip(assumed.b, design.fixed.values):
        eta += b * values
    for f, block in enumerate(design.blocks):
        drawn = rng.standard_normal((block.unit.size, len(assumed.covariances[f])))
        if block.relationship_factor is not None:
            drawn = block.relationship_factor @ drawn
        values, vectors = np.linalg.eigh(assumed.covariances[f])
        effects = drawn @ (vectors * np.sqrt(np.maximum(values, 0.0))).T
        for i, clause in enumerate(design.clauses):
            if clause.block != f:
                continue
            grown = np.ones(len(eta))
            if clause.vary is not None:
                grown = np.exp(sum(a * v for a, v in zip(assumed.vary[i], clause.vary.values)))
            for column, place in zip(clause.part.values, range(clause.columns.start, clause.columns.stop)):
                eta += column * grown * effects[block.unit.codes, place]
            if clause.has_spread:
                own += effects[block.unit.codes, clause.columns.start + clause.part.names.index("spread")]
    return eta, own


def drawn_residual(design: Design, assumed: Assumed, rng: np.random.Generator) -> Array:
    """Residuals of a gaussian model, (n,), correlated and spread as assumed."""
    drawn = rng.standard_normal(len(design.y))
    residual = design.residual
    rows = to_arrays(replace(design, residual=replace(residual, spread=None))).rows
    if rows is not None:
        phi = assumed.phi.copy()
        if assumed.rho is not None:
            phi[0] = _phi_of(rows, phi, assumed.rho)
        drawn, order = rows.colour(phi, drawn), row_order(residual)
        if order is not None:
            drawn[order] = drawn.copy()
    for coefficient, values in zip(assumed.spread, () if residual.spread is None else residual.spread.values):
        drawn = drawn * np.exp(coefficient * values)
    drawn = drawn * np.sqrt(assumed.sigma2)
    return np.asarray(drawn if design.weights is None else drawn / np.sqrt(design.weights))


def _gaussian_at(design: Design, options: SearchOptions, assumed: Assumed, rng: np.random.Generator) -> GaussianModel:
    y = rng.standard_normal(len(design.y))
    made = make_criterion(replace(design, y=y), options.method == "reml")
    theta, sigma2 = _theta(design, made, assumed)
    first = made.at(theta)
    rest, kept = y.copy(), made.products.standard.kept
    for b, k in zip(first.b, kept):
        rest -= b * design.fixed.values[k]
    rest *= 1.0 if made.absolute else np.sqrt(sigma2 / first.sigma2)
    for b, values in zip(assumed.b, design.fixed.values):
        rest += b * values
    design = replace(design, y=rest)
    criterion = make_criterion(design, options.method == "reml")
    return GaussianModel(design, options, criterion, _still(criterion.at(theta)))


def _theta(design: Design, c: Criterion, assumed: Assumed) -> tuple[Array, float]:
    """The criterion's own parameters, and sigma^2 as it has it."""
    middle, width = _spread_columns(design)
    sigma2 = assumed.sigma2 * float(np.exp(2.0 * assumed.spread @ middle))
    phi = np.concatenate([assumed.phi, assumed.spread * width])
    if c.correlated is not None and assumed.rho is not None:
        phi[0] = _phi_of(c.correlated.rows, phi, assumed.rho)
    parts = [np.zeros(0), *_effects(design, c, assumed, sigma2), phi]
    if c.absolute:
        parts.append(np.array([np.log(sigma2)]))
    return np.concatenate(parts), sigma2


def _phi_of(rows: RowCovariance, phi: Array, rho: float) -> float:
    def off(t: float) -> float:
        there = phi.copy()
        there[0] = t
        return float(rows.parameters(there, 1.0)["rho"]) - rho

    low = 0.0 if rows.bounded[0] else -FAR
    if rho == 0.0:
        return 0.0
    if off(low) > 0 or off(FAR) < 0:
        raise OrchardError(f"residuals of this structure cannot be correlated by {rho:g}")
    return float(optimize.brentq(off, low, FAR, xtol=1e-14))


def _effects(design: Design, c: Any, assumed: Assumed, sigma2: float) -> list[Array]:
    """theta of each unit; raises OrchardError where its structure cannot have the covariance."""
    out = []
    for f, structure in enumerate(c.structures):
        to_work = c.products.z_to_work[f]
        wanted = to_work @ (assumed.covariances[f] / sigma2) @ to_work.T
        theta = structure.of_covariance(wanted)
        t = structure.factor(theta, 1.0 / np.sqrt(sigma2))
        if not np.allclose(t @ t.T, wanted, rtol=1e-6, atol=1e-9 * max(1.0, float(np.abs(wanted).max(initial=0.0)))):
            raise OrchardError(
                f"effects of {design.blocks[f].unit.name} cannot have such SDs and correlations under the structure of the sentence"
            )
        out.append(theta)
    return out


def _generalized_at(
    design: Design, options: SearchOptions, assumed: Assumed, rng: np.random.Generator
) -> FittedModel[Any, Any]:
    from bold_orchard.estimation.generalized import GeneralizedModel
    from bold_orchard.estimation.generalized_search import make_laplace, with_points

    eta = drawn_eta(design, assumed, rng) + (0.0 if design.offset is None else design.offset)
    design = replace(design, y=family_over(design).draw(eta, assumed.extra, rng))
    laplace = make_laplace(design)
    standard = laplace.rows.standard
    means = np.array([v.mean() for v in design.fixed.values])
    extra = laplace.family.recentred(assumed.extra, -float(means @ assumed.b)) if len(means) else assumed.extra
    theta = np.concatenate(
        [standard.to_work @ assumed.b[standard.kept], *_effects(design, laplace, assumed, 1.0), extra]
    )
    points = 1 if options.points == "auto" else int(options.points)
    criterion = with_points(laplace, points)
    return GeneralizedModel(design, options, criterion, _still(criterion.at(theta)), points)


def family_over(design: Design) -> Family:
    """The family over the design's rows, to draw from."""
    kind = family_of(design.family, design.link)
    y = np.arange(len(design.y)) % max(len(design.levels), 1) if design.graded else design.y
    return kind(design.link, Data(np.asarray(y, dtype=float), design.trials, design.weights))


def _still(point: Any) -> OptimizeResult[Any]:
    """A place that no search led to."""
    return OptimizeResult(point, True, 0.0, np.zeros((0, 0)), 0, 0, Ending.WELL)


def changed(assumed: Assumed, design: Design, values: dict[str, float]) -> Assumed:
    """Other values by name: sd(unit: term), correlation(unit: a, b), sd(residual), rho, spread COLUMN, what the family has of its own.

    Raises OrchardError for a name the model lacks and a value it cannot have.
    """
    covariances = [c.copy() for c in assumed.covariances]
    sds, pairs = _places(design)
    own = {o.name: o for o in family_of(design.family, design.link).own}
    spread = {f"spread {n}": i for i, n in enumerate(design.residual.spread.names)} if design.residual.spread else {}
    known = [
        *sds,
        *pairs,
        *(["sd(residual)"] if design.additive else list(own)),
        *(["rho"] if assumed.rho is not None else []),
        *spread,
    ]
    for name in values:
        if name not in known:
            raise OrchardError(unknown_name("parameter", name, known, "the model"))
    for name, value in values.items():
        if (name.startswith("sd(") and value < 0) or ((name == "rho" or name in pairs) and not -1 <= value <= 1):
            raise OrchardError(f"{name} cannot be {value:g}")
    for name in (n for n in values if n in sds):
        _set_sd(covariances[sds[name][0]], sds[name][1], values[name])
    for name in (n for n in values if n in pairs):
        f, i, j = pairs[name]
        g = covariances[f]
        g[i, j] = g[j, i] = values[name] * np.sqrt(g[i, i] * g[j, j])
    for f, g in enumerate(covariances):
        if len(g) and float(np.linalg.eigvalsh(g)[0]) < -1e-9 * max(float(np.abs(g).max()), 1e-300):
            raise OrchardError(
                f"the correlations of {design.blocks[f].unit.name} contradict each other; no covariance has them all"
            )
    by_column = assumed.spread.copy()
    for name in (n for n in values if n in spread):
        by_column[spread[name]] = values[name]
    extra = assumed.extra.copy()
    for name in (n for n in values if n in own):
        extra[own[name].place] = _unbounded(own[name].back, values[name], name)
    sigma2 = assumed.sigma2
    if "sd(residual)" in values:
        if not values["sd(residual)"] > 0:
            raise OrchardError("sd(residual) must be above zero")
        sigma2 = values["sd(residual)"] ** 2
    return replace(assumed, covariances=tuple(covariances), sigma2=sigma2, rho=values.get("rho", assumed.rho), spread=by_column,
                   extra=extra)  # fmt: skip


def _set_sd(g: Array, i: int, sd: float) -> None:
    old = float(np.sqrt(g[i, i]))
    if old > 0:
        g[i, :] *= sd / old
        g[:, i] *= sd / old
    g[i, i] = sd**2


def _unbounded(back: Any, value: float, name: str) -> float:
    def off(t: float) -> float:
        return float(back(t)) - value

    with np.errstate(all="ignore"):
        if not off(-30.0) * off(30.0) < 0:
            raise OrchardError(f"{name} cannot be {value:g}")
        return float(optimize.brentq(off, -30.0, 30.0, xtol=1e-13))


def _places(design: Design) -> tuple[dict[str, tuple[int, int]], dict[str, tuple[int, int, int]]]:
    """Names of SDs and of correlations, with block and places."""
    sds: dict[str, tuple[int, int]] = {}
    pairs: dict[str, tuple[int, int, int]] = {}
    for clause in design.clauses:
        unit, names, first = design.label_of(clause), clause.part.names, clause.columns.start
        if clause.given is not None:
            continue
        for i, name in enumerate(names):
            sds[f"sd({unit}: {name})"] = (clause.block, first + i)
            for j in range(i):
                if clause.kind.correlated:
                    at = (clause.block, first + j, first + i)
                    pairs[f"correlation({unit}: {names[j]}, {name})"] = at
                    pairs[f"correlation({unit}: {name}, {names[j]})"] = at
    return sds, pairs


def variation_names(design: Design) -> tuple[list[str], list[str]]:
    """Parameters an imagined study must give, and those that are zero where it does not."""
    sds, pairs = _places(design)
    own = ["sd(residual)"] if design.additive else [o.name for o in family_of(design.family, design.link).own]
    return [*sds, *own], [*pairs, "rho"]


def spelled(name: str) -> str:
    """A parameter's name with its blanks as we write them."""
    return (
        re.sub(r"\s*,\s*", ", ", re.sub(r"\s*:\s*", ": ", re.sub(r"\s+", " ", name.strip())))
        .replace("( ", "(")
        .replace(" )", ")")
    )
