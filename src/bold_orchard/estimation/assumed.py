"""A model's parameters on the scale a person reads them, changed at will, and the model that has them over any rows."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import optimize

from bold_orchard.covariance.residuals.base import RowCovariance
from bold_orchard.design.design import Design
from bold_orchard.errors import OrchardError
from bold_orchard.estimation.arrays import row_order, to_arrays
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.estimation.gaussian_search import make_criterion
from bold_orchard.estimation.model import FittedModel
from bold_orchard.estimation.options import SearchOptions
from bold_orchard.estimation.random_spread import SpreadModel
from bold_orchard.families.base import Family
from bold_orchard.likelihood.gaussian import Criterion
from bold_orchard.optimize.protocol import Ending, OptimizeResult
from bold_orchard.own_parameter import OwnParameter
from bold_orchard.parameters.catalogue import Catalogue
from bold_orchard.parameters.parameter import Parameter

Array = NDArray[Any]
WIDEST = 30.0  # of the scale of the search, between which a value is looked for


@dataclass(frozen=True)
class Assumed:
    """Parameters of a model, none of which depends on the rows at hand.

    ``b`` (columns of X), 0 where aliased; ``covariances`` of each block's effects; ``sigma2`` of the residuals, at zero of what their
    spread depends on; ``phi`` of their correlation, ``own`` what their structure reports of it; ``spread`` by column; ``extra`` of the family,
    thresholds for columns that are not centred; ``vary`` of each clause's SDs by column, nothing where they are all alike. ``curves`` has the
    wiggle of each block of a curve of all rows, (1, k).
    """

    b: Array
    covariances: tuple[Array, ...]
    sigma2: float = 1.0
    phi: Array = field(default_factory=lambda: np.zeros(0))
    own: tuple[float, ...] = ()
    spread: Array = field(default_factory=lambda: np.zeros(0))
    extra: Array = field(default_factory=lambda: np.zeros(0))
    vary: tuple[Array, ...] = ()
    curves: dict[int, Array] = field(default_factory=dict)


def assumed_of(model: FittedModel[Any, Any]) -> Assumed:
    """The parameters where a model's search ended."""
    design, e = model.design, model.evaluation
    b = np.zeros(len(design.fixed.names))
    b[model.kept] = e.b
    covariances = tuple(np.asarray(e.covariance(f)) for f in range(len(design.blocks)))
    curves = {f: model.effects[f][0] for f, block in enumerate(design.blocks) if block.unit.curve}
    if isinstance(model, SpreadModel):
        sds = model.criterion.rows.centres
        gamma = e.theta[model.criterion.phi] / sds[:, 1]
        return Assumed(
            b, covariances, e.row_variance * float(np.exp(-2.0 * gamma @ sds[:, 0])), spread=gamma, curves=curves
        )
    if not isinstance(model, GaussianModel):
        means = np.array([v.mean() for v in design.fixed.values])
        return Assumed(
            b,
            covariances,
            extra=model.family.recentred(model.extra, float(means @ b)) if len(b) else model.extra,
            curves=curves,
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
    rows = () if c.correlated is None else c.correlated.rows.own
    own = tuple(o.at(phi) for o in rows)
    return Assumed(b, covariances, base, inner, own, spread, vary=vary, curves=curves)


def _spread_columns(design: Design) -> tuple[Array, Array]:
    """Means and SDs of the columns that the residual SD depends on."""
    part = design.residual.spread
    values = () if part is None else part.values
    return np.array([v.mean() for v in values]), np.array([v.std() for v in values])


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
        if f in assumed.curves:  # a curve of all rows stays as it is
            effects = assumed.curves[f]
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
        drawn, order = rows.colour(phi_of(rows, assumed), drawn), row_order(residual)
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
    rest *= 1.0 if not made.concentrated else np.sqrt(sigma2 / first.sigma2)
    for b, values in zip(assumed.b, design.fixed.values):
        rest += b * values
    design = replace(design, y=rest)
    criterion = make_criterion(design, options.method == "reml")
    return GaussianModel(design, options, criterion, _still(criterion.at(theta)))


def _theta(design: Design, c: Criterion, assumed: Assumed) -> tuple[Array, float]:
    """The criterion's own parameters, and sigma^2 as it has it."""
    middle, width = _spread_columns(design)
    sigma2 = assumed.sigma2 * float(np.exp(2.0 * assumed.spread @ middle))
    inner = assumed.phi if c.correlated is None else phi_of(c.correlated.rows, assumed)
    phi = np.concatenate([inner, assumed.spread * width])
    parts = [np.zeros(0), *_effects(design, c, assumed, sigma2), phi]
    if c.absolute:
        parts.append(np.array([np.log(sigma2)]))
    return np.concatenate(parts), sigma2


def phi_of(rows: RowCovariance, assumed: Assumed) -> Array:
    """phi of a residual structure over some rows, what it reports of it being as assumed."""
    phi = assumed.phi.copy()
    for own, value in zip(rows.own, assumed.own):
        phi[own.place] = _on_scale(own, value, own.along(phi))
    return phi


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
    design = replace(design, y=drawn_outcome(design, family_over(design), eta, assumed.extra, rng))
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


def drawn_outcome(design: Design, family: Family, eta: Array, extra: Array, rng: np.random.Generator) -> Array:
    """An outcome (n,) as ``design.y`` has it, for each linear predictor (n,); of several of one row the same."""
    if not design.predictors:
        return family.draw(eta, extra, rng)
    return np.repeat(family.draw(design.folded(eta), extra, rng), len(design.predictors))


def family_over(design: Design) -> Family:
    """The family over the design's rows, to draw from."""
    y = np.arange(len(design.y)) % max(len(design.levels), 1) if design.graded else design.y
    return design.kind(design.link, design.data_of(np.asarray(y, dtype=float)))


def _still(point: Any) -> OptimizeResult[Any]:
    """A place that no search led to."""
    return OptimizeResult(point, True, 0.0, np.zeros((0, 0)), 0, 0, Ending.WELL)


def changed(assumed: Assumed, design: Design, values: Mapping[str, float]) -> Assumed:
    """Other values by label: sd(unit: term), correlation(unit: a, b), sd(residual), rho, spread COLUMN, what the family has of its own.

    Raises OrchardError for a name the model lacks and a value it cannot have.
    """
    known = Catalogue(design)
    fixed = {
        *known.occasions,
        *known.occasion_correlations.values(),
    }  # of an unstructured covariance, as they were estimated
    among = [p for p in known if p.kind in ("sd", "correlation", "spread", "own") and p not in fixed]
    meant = {known.find(name, among, "the model"): value for name, value in values.items()}
    for parameter, value in meant.items():
        if (parameter.kind == "sd" and value < 0) or (parameter.kind == "correlation" and not -1 <= value <= 1):
            raise OrchardError(f"{parameter.label} cannot be {value:g}")
    if known.residual_sd in meant and not meant[known.residual_sd] > 0:
        raise OrchardError(f"{known.residual_sd.label} must be above zero")
    assumed = replace(assumed, covariances=_covariances(assumed, design, meant))
    extra, by_column, own, sigma2 = assumed.extra.copy(), assumed.spread.copy(), list(assumed.own), assumed.sigma2
    for parameter, value in meant.items():
        if parameter == known.residual_sd:
            sigma2 = value**2
        elif parameter.kind == "spread":
            by_column[parameter.places[0]] = value
        elif parameter in known.residual_own:
            own[parameter.places[0]] = value
        elif parameter in known.family_own:
            mine = design.kind.own[known.family_own.index(parameter)]
            extra[mine.place] = _on_scale(mine, value, mine.along(extra))
    return replace(assumed, sigma2=sigma2, own=tuple(own), spread=by_column, extra=extra)


def _covariances(assumed: Assumed, design: Design, values: Mapping[Parameter, float]) -> tuple[Array, ...]:
    """Of every block's effects with other SDs, then other correlations; raises OrchardError where these contradict each other."""
    out = [g.copy() for g in assumed.covariances]
    for kind in ("sd", "correlation"):
        for parameter, value in values.items():
            if parameter.kind != kind or parameter.clause is None:
                continue
            clause = design.clauses[parameter.clause]
            g, at = out[clause.block], [clause.columns.start + i for i in parameter.places]
            if kind == "sd":
                _set_sd(g, at[0], value)
            else:
                g[at[0], at[1]] = g[at[1], at[0]] = value * np.sqrt(g[at[0], at[0]] * g[at[1], at[1]])
    for block, g in zip(design.blocks, out):
        if len(g) and float(np.linalg.eigvalsh(g)[0]) < -1e-9 * max(float(np.abs(g).max()), 1e-300):
            raise OrchardError(
                f"the correlations of {block.unit.name} contradict each other; no covariance has them all"
            )
    return tuple(out)


def _set_sd(g: Array, i: int, sd: float) -> None:
    old = float(np.sqrt(g[i, i]))
    if old > 0:
        g[i, :] *= sd / old
        g[:, i] *= sd / old
    g[i, i] = sd**2


def _on_scale(own: OwnParameter, value: float, back: Callable[[float], float]) -> float:
    """A parameter on the scale of the search; raises OrchardError for a value that it cannot have."""
    low, high = (float(np.clip(edge, -WIDEST, WIDEST)) for edge in own.edges)

    def off(t: float) -> float:
        return float(back(t)) - value

    with np.errstate(all="ignore"):
        if off(low) == 0.0:
            return low
        if not off(low) * off(high) < 0:
            raise OrchardError(f"{own.name} cannot be {value:g}")
        return float(optimize.brentq(off, low, high, xtol=1e-14))
