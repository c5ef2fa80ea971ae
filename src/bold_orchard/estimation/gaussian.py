"""The road's middle: sentence + table -> design -> likelihood -> search -> Fit."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance import STRUCTURES, Given, Structure, Unstructured
from bold_orchard.covariance.residuals.rows import (
    AR1,
    ExchangeableBands,
    ExchangeableRows,
    Independent,
    RowCovariance,
    Spread,
    UnstructuredRows,
)
from bold_orchard.crossproducts.arrays import Arrays, RandomBlock, RandomUnit
from bold_orchard.crossproducts.assemble import cross_products, split
from bold_orchard.data.table import Table
from bold_orchard.design.build import Clause, Design, Options, build_design
from bold_orchard.design.model_matrix import Part
from bold_orchard.design.residual import ResidualPart
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.estimation.starts import scaled_starts
from bold_orchard.inference.coefficients.precision import Precision, check_reach, precision
from bold_orchard.inference.summary import summarise
from bold_orchard.inference.variances.identified import flat_components
from bold_orchard.likelihood.gaussian import Criterion, Evaluation
from bold_orchard.optimize.newton import Counter, Found, descend, difference_hessian, minimise
from bold_orchard.sentence.parse import read_sentence
from bold_orchard.sentence.tree import Sentence

Array = NDArray[Any]
MOST_IN_UNIT = 200
FAR = 0.8
MOST_DIFFICULT = 50
UNEVEN_WEIGHTS = 1e3  # weights this far apart make likelihoods with several maxima
TRIED = 3  # of the other starts, the best are followed
SMALL = 5_000  # effects up to which every fit is tried from other starts
MOST_CROSSED = 12_000
MOST_CROSSED_CORRELATED = 1_500


@dataclass(frozen=True)
class Settings:
    """Everything about a fit beside the sentence and the table."""

    method: str = "reml"
    options: Options = field(default_factory=Options)
    df: str = "satterthwaite"
    confidence: float = 0.95
    tolerance: float = 1e-10
    max_steps: int = 100
    points: int | str = 1


@dataclass(frozen=True)
class Fit:
    """A fitted model. ``result`` is the JSON document of the contract (docs/json.md)."""

    name: str
    design: Design
    settings: Settings
    criterion: Criterion
    found: Found[Evaluation]
    known: Precision
    result: dict[str, Any]

    @property
    def evaluation(self) -> Evaluation:
        return self.found.point

    @property
    def converged(self) -> bool:
        return self.found.converged

    def precision(self, df: str | None = None) -> Precision:
        """Standard errors and degrees of freedom, by the fit's own method or another."""
        same = df is None or df == self.settings.df
        if self.design.generalized and not same:
            raise UsageError(f"--df {df} is for gaussian fits; tests of {self.design.family} fits use the normal")
        return self.known if same else precision(self.evaluation, str(df))


@np.errstate(all="ignore")  # what overflows is judged where it is used
def fit(
    sentence: str | Sentence,
    table: Table,
    settings: Settings | None = None,
    name: str = "fit",
    progress: Callable[[int], None] | None = None,
) -> Fit:
    """Fit a mixed model: a Gaussian one here, others by ``generalized``.

    Raises OrchardError for a sentence or data that cannot be fitted; a fit that did not converge is returned with
    ``converged`` False.
    """
    settings = settings or Settings()
    spec = read_sentence(sentence) if isinstance(sentence, str) else sentence
    if settings.method not in ("reml", "ml"):
        raise UsageError(f"the method is reml or ml, not '{settings.method}'")
    design = build_design(spec, table, settings.options)
    if design.generalized:
        from bold_orchard.estimation.generalized import fit_generalized

        return fit_generalized(name, design, settings, progress)
    if settings.points != 1:
        raise UsageError("--points is for outcomes that are not gaussian; the gaussian likelihood is exact")
    criterion = make_criterion(design, settings.method == "reml")
    check_reach(criterion, settings.df)
    found = search(criterion, criterion.start(), settings, progress)
    return finish(name, design, settings, criterion, found)


def search(
    criterion: Criterion, start: Array, settings: Settings, progress: Callable[[int], None] | None = None
) -> Found[Evaluation]:
    """Minimise the criterion, then bring the parameters to the form in which they are reported."""
    found = _minimise(criterion, start, settings, progress)
    edge = bool((np.abs(found.point.theta[criterion.bounded]) < 1e-3).any())
    found = _from_other_scales(criterion, found, settings, edge)
    if criterion.correlated is not None and (edge or not found.converged):
        for other in _far_starts(criterion):
            found = _better(found, _minimise(criterion, other, settings, progress))
    if not found.converged and settings.max_steps >= MOST_DIFFICULT:
        found = _better(found, _in_another_order(criterion, found, settings))
    signs = criterion.signs(found.point.theta)
    if (signs < 0).any():
        turned = criterion.at(signs * found.point.theta)
        near = tuple((s * h, base, moved) for s, (h, base, moved) in zip(signs, found.near))
        found = replace(found, point=turned, hessian=signs[:, None] * found.hessian * signs, near=near)
    return found


def _minimise(
    criterion: Criterion, start: Array, settings: Settings, progress: Callable[[int], None] | None = None
) -> Found[Evaluation]:
    edges, limit = criterion.bounded, settings.max_steps
    return minimise(criterion.at, start, criterion.walls, edges, settings.tolerance, limit, progress)


def _from_other_scales(
    criterion: Criterion, found: Found[Evaluation], settings: Settings, edge: bool
) -> Found[Evaluation]:
    """Search again from other scales of the effects: everywhere in small models, in large ones where a doubt stands."""
    effects = sum(u.levels * u.size for u in criterion.products.units)
    uneven = criterion.products.uneven > UNEVEN_WEIGHTS
    if not criterion.n_theta or (effects > SMALL and not (edge or uneven or not found.converged)):
        return found
    count = Counter(criterion.at)
    tried = [p for p in map(count.attempt, scaled_starts(criterion, found.point.theta)) if p is not None]
    tried.sort(key=lambda p: p.deviance)
    doubtful = effects <= SMALL and (edge or uneven or not found.converged)
    for point in tried[: TRIED if doubtful else 1]:
        if not doubtful and point.deviance > found.point.deviance:
            break
        low = descend(criterion.at, point.theta, criterion.walls)
        if low.deviance < found.point.deviance - 1e-6 or not found.converged:
            found = _better(found, _minimise(criterion, low.theta, settings))
    return found


def _better(one: Found[Evaluation], two: Found[Evaluation]) -> Found[Evaluation]:
    """The lower deviance; at a tie the one that converged."""
    gain = one.point.deviance - two.point.deviance
    return two if gain > 1e-7 or (gain > -1e-7 and two.converged and not one.converged) else one


def _far_starts(criterion: Criterion) -> list[Array]:
    """The usual start with other correlations: variances between units and the correlation inside them compete."""
    at = criterion.phi.start
    starts = []
    for shift in (FAR, -2.0 * FAR) if not criterion.walls[at] else (FAR,):
        start = criterion.start()
        start[at] += shift
        starts.append(start)
    return starts


def _in_another_order(criterion: Criterion, found: Found[Evaluation], settings: Settings) -> Found[Evaluation]:
    """Search again with T triangular in the order of the variances found, and bring the result back."""
    theta, units = found.point.theta.copy(), []
    for unit, at in zip(criterion.products.units, criterion.slices):
        blocks, place = [], at.start
        for block in unit.blocks:
            own = slice(place, place + block.structure.n_theta)
            place = own.stop
            structure = block.structure
            if isinstance(structure, Unstructured):
                t = structure.factor(theta[own])
                structure = structure.by_size(theta[own])
                theta[own] = structure.of_covariance(t @ t.T)
            blocks.append(replace(block, structure=structure))
        units.append(replace(unit, blocks=tuple(blocks)))
    moved = Criterion(replace(criterion.products, units=tuple(units)), criterion.reml, criterion.correlated)
    again = _minimise(moved, theta, settings)
    back = again.point.theta.copy()
    for f, (unit, at) in enumerate(zip(criterion.products.units, criterion.slices)):
        place = at.start
        for block, turned in zip(unit.blocks, units[f].blocks):
            own = slice(place, place + block.structure.n_theta)
            place = own.stop
            if isinstance(block.structure, Unstructured):
                t = turned.structure.factor(back[own])
                back[own] = block.structure.of_covariance(t @ t.T)
    return replace(
        again, point=criterion.at(back), hessian=difference_hessian(criterion.at, criterion.at(back)), near=()
    )


def finish(name: str, design: Design, settings: Settings, criterion: Criterion, found: Found[Evaluation]) -> Fit:
    known = precision(found.point, settings.df, found)
    flat = flat_components(design, found) if len(found.hessian) or not len(found.point.theta) else None
    found = found if flat is None else replace(found, converged=False, reason="")
    result = summarise(name, design, criterion, found, known, settings.df, settings.confidence, flat)
    return Fit(name, design, settings, criterion, found, known, result)


def refit(earlier: Fit, method: str) -> Fit:
    """The same model by another method, from the estimates of the first; its fixed effects get normal intervals."""
    settings = replace(earlier.settings, method=method, df="normal")
    criterion = Criterion(earlier.criterion.products, method == "reml", earlier.criterion.correlated)
    start = np.where(criterion.bounded, np.maximum(earlier.evaluation.theta, 1e-2), earlier.evaluation.theta)
    found = search(criterion, start, settings)
    return finish(earlier.name, earlier.design, settings, criterion, found)


def make_criterion(design: Design, reml: bool, few: bool = False) -> Criterion:
    """The numeric model of a design, to be evaluated often, or a ``few`` times."""
    arrays = to_arrays(design)
    _tail_fits(design, arrays)
    products, correlated = cross_products(arrays, few)
    rounding = 10.0 * np.finfo(float).eps * float(np.linalg.norm(design.y))
    if products.dense[-1, -1] <= rounding**2:
        raise OrchardError(
            f"the fixed part reproduces '{design.outcome}' exactly, so nothing is left to vary; "
            "is one of the terms computed from the outcome?"
        )
    return Criterion(products, reml, correlated)


def _tail_fits(design: Design, arrays: Arrays) -> None:
    """Refuse crossings whose dense part would be too large to factor; raises OrchardError."""
    _, tail = split(arrays)
    width = sum(arrays.units[f].levels * arrays.units[f].size for f in tail)
    limit = MOST_CROSSED if arrays.rows is None else MOST_CROSSED_CORRELATED
    if width > limit:
        names = " and ".join(f"{design.blocks[f].unit.name} ({arrays.units[f].levels:,} levels)" for f in tail)
        beside = " beside within or spread" if arrays.rows is not None else ""
        raise OrchardError(
            f"{names}: {width:,} effects crossed with a larger unit are more than can be factored yet{beside} (at most "
            f"{limit:,}); leave the unit out, or fit a part of the data with --where"
        )


def row_order(residual: ResidualPart) -> Array | None:
    """Rows sorted by unit and time, as a residual covariance needs them; None when there is none."""
    if residual.codes is None:
        return None
    return np.lexsort((residual.codes,) if residual.time is None else (residual.time, residual.codes))


def to_arrays(design: Design) -> Arrays:
    """The design as arrays; with correlated residuals the rows stand sorted by unit and time."""
    residual = design.residual
    order = row_order(residual)

    def sort(values: Array) -> Array:
        return values if order is None else values[order]

    distinct = _Distinct()
    x = distinct.numbers(design.fixed)
    units = []
    for index, block in enumerate(design.blocks):
        parts = tuple(_random_block(c, distinct.numbers(c.part)) for c in design.clauses if c.block == index)
        units.append(RandomUnit(sort(block.unit.codes), block.unit.size, parts, block.mix))
    return Arrays(
        y=sort(design.y),
        columns=tuple(sort(c) for c in distinct.columns),
        x=x,
        intercept=design.fixed.intercept,
        units=tuple(units),
        weights=None if design.weights is None else sort(design.weights),
        rows=_row_covariance(residual, len(design.y), sort),
        within=None if residual.codes is None else sort(residual.codes),
    )


class _Distinct:
    """The distinct columns of all parts; those of one name are one wherever they hold the same values."""

    def __init__(self) -> None:
        self.columns: list[Array] = []
        self.named: dict[str, list[int]] = {}

    def numbers(self, part: Part) -> tuple[int, ...]:
        return tuple(self._number(name, values) for name, values in zip(part.names, part.values))

    def _number(self, name: str, values: Array) -> int:
        known = self.named.setdefault(name, [])
        for k in known:
            if self.columns[k] is values or np.array_equal(self.columns[k], values):
                return k
        known.append(len(self.columns))
        self.columns.append(values)
        return known[-1]


def _random_block(clause: Clause, columns: tuple[int, ...]) -> RandomBlock:
    size = len(clause.part.names)
    if clause.given is not None:
        structure: Structure = Given(size, tuple(map(tuple, clause.given.tolist())))
    else:
        structure = STRUCTURES["unstructured" if clause.structure.kind == "known" else clause.structure.kind](size)
    return RandomBlock(columns, structure, clause.part.constant)


def _row_covariance(residual: ResidualPart, n: int, sort: Callable[[Array], Array]) -> RowCovariance | None:
    """The residual covariance over the sorted rows; None for equal, independent residuals."""
    made: RowCovariance | None = None
    if residual.codes is not None:
        codes = sort(residual.codes)
        first = np.append(True, np.diff(codes) != 0)
        starts = np.flatnonzero(first)
        if residual.kind == "ar1" and residual.time is not None:
            time = sort(residual.time)
            made = AR1(np.where(first, np.nan, np.diff(time, prepend=time[0])))
        elif residual.kind == "unstructured" and residual.time is not None:
            made = UnstructuredRows(sort(residual.time), starts, list(residual.labels))
        else:
            largest = int(np.diff(np.append(starts, n)).max())
            if residual.spread is not None and largest > MOST_IN_UNIT:
                raise OrchardError(
                    f"exchangeable residuals with a spread are built for units of up to {MOST_IN_UNIT} rows; the largest "
                    f"{residual.unit} has {largest:,}; write each {residual.unit}: intercept instead of within"
                )
            made = (ExchangeableRows if residual.spread is None else ExchangeableBands)(starts, n)
    if residual.spread is not None:
        columns = [sort(v) for v in residual.spread.values]
        made = Spread(made or Independent(n), np.column_stack([(c - c.mean()) / c.std() for c in columns]))
    return made
