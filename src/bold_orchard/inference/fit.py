"""A fit as all later questions take it: the fitted model, how sure its coefficients are, and its document."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from bold_orchard.data.table import Table
from bold_orchard.design.build import build_design
from bold_orchard.design.design import Design, Options
from bold_orchard.design.outcomes import OURS
from bold_orchard.design.subset import some_rows
from bold_orchard.design.transformations import OUTCOME
from bold_orchard.errors import OrchardError, UsageError, unknown_name
from bold_orchard.estimation.estimate import estimate, reopen
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.estimation.generalized import GeneralizedModel
from bold_orchard.estimation.model import FittedModel
from bold_orchard.estimation.options import SearchOptions
from bold_orchard.inference.coefficients.methods import precision
from bold_orchard.inference.coefficients.precision import CoefficientInference
from bold_orchard.inference.summary import summarise
from bold_orchard.inference.trouble import trouble_of
from bold_orchard.likelihood.wide import WideCriterion
from bold_orchard.parameters.catalogue import Catalogue
from bold_orchard.progress import silent
from bold_orchard.results.fit import FitResult
from bold_orchard.sentence.parse import read_sentence
from bold_orchard.sentence.tree import Sentence

if TYPE_CHECKING:
    from bold_orchard.data.pieces import Pieces
    from bold_orchard.wording import Wording


@dataclass(frozen=True)
class Imputing:
    """How gaps of covariates are to be filled: number of ``draws``, columns ``beside`` the sentence that help, the ``seed``."""

    draws: int
    beside: tuple[str, ...] = ()
    seed: int = 0


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
    errors: str | None = None
    impute: Imputing | None = None
    wording: Wording | None = None

    @property
    def search(self) -> SearchOptions:
        return SearchOptions(self.method, self.tolerance, self.max_steps, self.points)


@dataclass(frozen=True)
class Fit:
    """A fitted model with its name, its tests' method and its document (``result``, the contract of docs/json.md); ``one`` is the outcome, of several,
    that its questions are about; ``imputations`` are the fits over which it is pooled, if it is."""

    name: str
    model: FittedModel[Any, Any]
    settings: Settings
    known: CoefficientInference
    result: FitResult
    one: str | None = None
    imputations: tuple[Fit, ...] = ()

    def __eq__(self, other: object) -> bool:
        """Whether both are fits of one model to the same rows, with the same document."""
        if not isinstance(other, Fit) or self.result.to_dict() != other.result.to_dict():
            return False
        one, two = self.design, other.design
        return np.array_equal(one.y, two.y) and np.array_equal(one.table.row_numbers, two.table.row_numbers)

    def __hash__(self) -> int:
        return hash((self.name, self.result.model, self.result.fit.deviance))

    def __reduce__(self) -> tuple[Any, ...]:
        """Its design and where its search ended: the rest is made again from these."""
        ended = replace(self.model.found, point=None, moves=())
        return _again, (
            self.name,
            self.design,
            self.settings,
            self.evaluation.theta,
            self.model.points,
            ended,
            self.result,
        )

    def level(self, confidence: float | None) -> float:
        """The level of intervals asked for, else that of the fit; raises UsageError for one that is none."""
        if confidence is None:
            return self.settings.confidence
        if not 0 < confidence < 1:
            raise UsageError(f"a confidence level lies between 0 and 1, not {confidence:g}")
        return confidence

    @property
    def design(self) -> Design:
        return self.model.design

    @cached_property
    def catalogue(self) -> Catalogue:
        """The model's parameters, each with its label."""
        return Catalogue(self.design)

    @property
    def criterion(self) -> Any:
        return self.model.criterion

    @property
    def evaluation(self) -> Any:
        return self.model.evaluation

    @property
    def converged(self) -> bool:
        return self.model.converged

    def of(self, outcome: str) -> Fit:
        """The same fit asked about one of its outcomes, whose rows are then its rows, or about one of its linear
        predictors; its estimates are those
        of all."""
        if self.design.predictors:
            return replace(self, one=outcome)
        mine = [t == outcome for t in self.design.table.labels(OUTCOME).texts]
        keep = np.flatnonzero(np.array(mine)[self.design.table.labels(OUTCOME).codes])
        model = replace(self.model, design=some_rows(self.design, keep, whole_units=True))
        return replace(self, model=model, one=outcome, result=self.result.with_keys(outcome=outcome))

    @property
    def each_predictor(self) -> list[Fit]:
        """The same fit asked about each of its linear predictors."""
        return [self.of(name) for name in self.design.predictors]

    def part(self, asked: str | None) -> Fit:
        """The same fit asked about a part: zeros, spread, mean, or a level of an unordered outcome. Raises UsageError
        for one that it has not."""
        if asked is None:
            return self
        if asked not in self.design.predictors:
            known = list(self.design.predictors) or ["(the mean alone)"]
            raise UsageError(unknown_name("part", asked, known, f"the fit '{self.name}'") + " (in --part)")
        return self.of(asked)

    @cached_property
    def of_table(self) -> Fit:
        """The same fit with rows as the table has them, where each has several linear predictors: for what looks at
        rows and residuals."""
        if not self.design.stacked:
            return self
        keep = np.arange(0, len(self.design.y), len(self.design.predictors))
        rows = some_rows(self.design, keep, whole_units=True)
        model = replace(self.model, design=replace(rows, unstacked=True), whole=self.model)
        return replace(self, model=model)

    @property
    def own_table(self) -> Table:
        """The rows used as the table has them."""
        table = self.of_table.design.table
        return table.only([c for c in table.columns if c not in OURS]) if self.design.predictors else table

    def outcomes(self, asked: str | None) -> list[str]:
        """The outcomes that a question is about: the one asked for, or all; nothing where there is one. Raises UsageError for a name that is none."""
        known = list(self.design.outcomes)
        if asked is not None and asked not in known:
            raise UsageError(
                unknown_name("outcome", asked, known or [self.design.outcome], f"the fit '{self.name}'")
                + " (in --outcome)"
            )
        return known if asked is None else [asked]

    def called(self, name: str) -> Fit:
        """The same fit by another name."""
        return replace(self, name=name, result=self.result.with_keys(name=name))

    def needs_rows(self, what: str) -> None:
        """Raise OrchardError where the rows were summed in pieces and are not held."""
        if self.design.counts is not None:
            raise OrchardError(
                f"{what} needs the rows themselves, and '{self.name}' was fitted in pieces; fit again with more --memory, or a part of the "
                "rows with --where"
            )

    def needs_one_table(self, what: str) -> None:
        """Raise OrchardError where the fit is pooled over several completed tables, and no rows are the rows."""

    def needs_one_predictor(self, what: str) -> None:
        """Raise OrchardError where rows have several linear predictors, of which the question is not answered yet."""
        if self.design.predictors:
            raise OrchardError(
                f"{what} is not made for rows with several linear predictors ({', '.join(self.design.predictors)}), which '{self.name}' has"
            )

    def needs_factor(self, what: str, instead: str) -> None:
        """Raise OrchardError where crossed effects are too many to be factored together."""
        if isinstance(self.criterion, WideCriterion):
            raise OrchardError(
                f"{what} factors all crossed effects together, and '{self.name}' has {self.criterion.products.q:,} of them; {instead}"
            )

    def precision(self, df: str | None = None) -> CoefficientInference:
        """Standard errors and degrees of freedom, by the fit's own method or another."""
        same = df is None or df == self.settings.df
        if not self.criterion.profiled and not same:
            kind = "fits with a spread for each unit" if self.design.random_spread else f"{self.design.family} fits"
            raise UsageError(f"--df {df} is for gaussian fits; tests of {kind} use the normal")
        return self.known if same else self._precision(str(df))

    def _precision(self, df: str) -> CoefficientInference:
        return precision_of(self.model, replace(self.settings, df=df))

    def df_name(self, method: str) -> str:
        """What a document calls the degrees of freedom of a method."""
        return self.known.called if self.settings.errors is not None else method

    def with_errors(self, errors: str | None) -> Fit:
        """The same fit with other errors of its coefficients: "model", "robust" or "robust=UNIT"; its own where None."""
        if errors is None:
            return self
        return of_model(self.name, self.model, replace(self.settings, errors=None if errors == "model" else errors))


def fit(
    sentence: str | Sentence,
    table: Table,
    settings: Settings | None = None,
    name: str = "fit",
    progress: Callable[[int], None] | None = None,
) -> Fit:
    """Fit the model that a sentence says to a table.

    Raises OrchardError for a sentence or data that cannot be fitted; a fit that did not converge is returned with
    ``converged`` False.
    """
    settings = settings or Settings()
    spec = read_sentence(sentence) if isinstance(sentence, str) else sentence
    if settings.method not in ("reml", "ml"):
        raise UsageError(f"the method is reml or ml, not '{settings.method}'")
    design = build_design(spec, table, settings.options)
    check_df(design, settings)
    return of_model(name, estimate(design, settings.search, progress), settings)


def fit_pieces(
    sentence: str | Sentence, source: str, used: Sequence[str], missing: Sequence[str], where: str | None, settings: Settings,
    name: str = "fit", progress: Callable[..., None] | None = None, cluster: str | None = None,
) -> Fit:  # fmt: skip
    """Fit a table that is read in pieces and never held; ``source`` is a file, a folder or a pattern.

    With ``cluster``, the address of a Dask scheduler or local:N, workers read the pieces.

    Raises OrchardError for sentences that need their rows in memory.
    """
    from bold_orchard.data.pieces import needed, pieces_of
    from bold_orchard.design.engines import Cluster, engine_here
    from bold_orchard.design.sweeps import design_of_pieces

    spec = read_sentence(sentence) if isinstance(sentence, str) else sentence
    pieces = pieces_of(source, used, missing, where)
    report = silent if progress is None else progress
    here = cluster is None
    engine = engine_here(len(pieces.paths), needed(source, used)) if here else Cluster(str(cluster))
    try:
        design = design_of_pieces(spec, pieces, settings.options, report, engine)
    finally:
        engine.close()
    check_df(design, settings)
    return of_model(name, estimate(design, settings.search, progress if design.on_disk else None), settings)


def with_rows(earlier: Fit, pieces: Pieces) -> Fit:
    """A fit made of sums taken up again over the rows themselves, laid down on disk.

    Raises OrchardError where these are not the rows it was fitted to.
    """
    from bold_orchard.design.sweeps import design_on_disk

    model, search = earlier.model, earlier.settings.search
    design = design_on_disk(earlier.design.sentence, pieces, earlier.settings.options, silent)
    ended = replace(model.found, hessian=np.zeros((0, 0)))
    there = reopen(design, search, model.evaluation.theta, model.points, ended).criterion
    made = reopen(design, search, model.carried_effects(there), model.points, ended)
    again = of_model(earlier.name, made, earlier.settings)
    before, after = earlier.evaluation.deviance, again.evaluation.deviance
    if not abs(before - after) <= 1e-7 * (1.0 + abs(before)):
        raise OrchardError(f"the rows of '{earlier.name}' are not those it was fitted to; fit it again")
    return again


def check_df(design: Design, settings: Settings) -> None:
    """Raise UsageError, before the search, for degrees of freedom that such a model does not have."""
    if design.additive and settings.df == "kenward-roger" and settings.method != "reml" and not design.random_spread:
        raise UsageError("--df kenward-roger rests on REML; fit with --method reml, or use --df satterthwaite")
    if not design.additive and settings.df in ("kenward-roger", "residual"):
        raise UsageError(f"--df {settings.df} is for gaussian fits; tests of {design.family} fits use the normal")


@np.errstate(all="ignore")  # what overflows is judged where it is used
def of_model(name: str, model: FittedModel[Any, Any], settings: Settings) -> Fit:
    """The fit of an estimated model: tests, document, and whether its figures may be used."""
    if not model.criterion.profiled:  # such models answer some questions in their own way
        if model.design.random_spread:
            import bold_orchard.inference.random_spread
        else:
            import bold_orchard.inference.generalized  # noqa: F401
        if settings.df not in ("satterthwaite", "normal"):
            precision(model, settings.df)  # says why not
        settings = replace(settings, df="normal")
    known = precision_of(model, settings)
    trouble = trouble_of(model)
    result = summarise(name, model, known, settings.df, settings.confidence, trouble)
    if settings.errors is not None:
        result = result.with_keys(errors=known.errors_used, df_method=known.called)
    if settings.wording:
        result = result.with_keys(labels=settings.wording.to_dict())
    if trouble.notes:
        model = replace(model, found=replace(model.found, converged=False))
    return Fit(name, model, settings, known, result)


def _again(
    name: str, design: Design, settings: Settings, theta: Any, points: int, ended: Any, result: FitResult
) -> Fit:  # fmt: skip
    """A fit out of what was kept of it, with its own document."""
    made = of_model(name, reopen(design, settings.search, theta, points, ended), settings)
    return replace(made, result=result)


def by_ml(earlier: Fit, method: str = "ml") -> Fit:
    """The same model by another method, from the estimates of the first; its fixed effects get normal intervals."""
    return of_model(earlier.name, earlier.model.by(method), replace(earlier.settings, method=method, df="normal"))


def on_rows(earlier: Fit, keep: np.ndarray[Any, np.dtype[np.intp]], exact: bool) -> Fit:
    """The same model on the rows ``keep``; of its document nothing is made anew."""
    model = earlier.model.on_rows(keep, exact)
    return replace(earlier, model=model, known=precision_of(model, earlier.settings))


def precision_of(model: FittedModel[Any, Any], settings: Settings) -> CoefficientInference:
    """Standard errors and degrees of freedom as the settings ask for them.

    Raises UsageError for robust errors beside degrees of freedom that are not theirs, and OrchardError where no clusters are independent.
    """
    if settings.errors is None:
        return precision(model, settings.df)
    from bold_orchard.inference.coefficients.robust import Robust, read_errors

    _, unit = read_errors(settings.errors)
    if model.design.random_spread:
        raise UsageError("--errors robust is not made for units that have a spread of their own; leave it out")
    if model.design.predictors:
        raise OrchardError("robust errors are not made for rows with several linear predictors; leave --errors out")
    if model.design.counts is not None:
        raise OrchardError(
            "robust errors need the rows themselves, and this fit was made in pieces; fit again with more --memory"
        )
    if isinstance(model, GaussianModel):
        return Robust(model, unit, settings.df == "normal")
    from bold_orchard.inference.coefficients.robust_scores import RobustScores

    assert isinstance(model, GeneralizedModel)
    return RobustScores(model, unit)
