"""A fit pooled over completed tables: every answer that rests on coefficients and parameters with their errors takes it as any other fit."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.table import Table
from bold_orchard.design.over import recoded
from bold_orchard.errors import OrchardError
from bold_orchard.estimation.estimate import estimate
from bold_orchard.estimation.gaussian_search import make_criterion
from bold_orchard.estimation.generalized_search import make_laplace
from bold_orchard.estimation.model import FittedModel
from bold_orchard.imputing.analysis import with_units_anew
from bold_orchard.imputing.impute import Imputed, imputed
from bold_orchard.imputing.inference import PooledCoefficients, PooledLikelihood, Pooling, pooled_point
from bold_orchard.imputing.walk import column_means, on_scale_of
from bold_orchard.inference.coefficients.precision import CoefficientInference
from bold_orchard.inference.coefficients.rubin import pooled
from bold_orchard.inference.fit import Fit, Settings, check_df, of_model
from bold_orchard.inference.summary import number, summarise
from bold_orchard.inference.trouble import Trouble
from bold_orchard.progress import Progress
from bold_orchard.results.fit import FitResult, Imputation
from bold_orchard.results.notes import Note
from bold_orchard.sentence.parse import read_sentence
from bold_orchard.sentence.tree import Sentence

Array = NDArray[Any]
STEP = 1e-5  # of a parameter, in differences of a change of scale
CALLED = "barnard-rubin"


@dataclass(frozen=True, eq=False)
class ImputedFit(Fit):
    """``imputations`` are the fits of the completed tables, ``cells`` what was drawn; ``model`` stands at the pooled estimates, over rows whose gaps are
    at the means of their draws, and ``known`` has the pooled errors."""

    cells: Any = None

    def __reduce__(self) -> tuple[Any, ...]:
        return pool, (self.name, self.imputations, self.cells, self.settings)

    def needs_one_table(self, what: str) -> None:
        raise OrchardError(
            f"{what} does not answer for '{self.name}', which is pooled over {len(self.imputations)} completed tables; "
            "fit the complete rows (without --impute), or one completed table (fit ... --impute ... --keep FILE)"
        )

    def needs_rows(self, what: str) -> None:
        self.needs_one_table(what)

    def precision(self, df: str | None = None) -> CoefficientInference:
        same = df is None or df == self.settings.df
        return (
            self.known if same else _inference(self.model, [f.precision(df) for f in self.imputations], self._pooling)
        )

    @property
    def _pooling(self) -> Pooling:
        known: Any = self.known
        made: Pooling = known.pooling
        return made

    def df_name(self, method: str) -> str:
        return CALLED

    def with_errors(self, errors: str | None) -> Fit:
        """The same with other errors of its coefficients, pooled again."""
        if errors is None:
            return self
        own = replace(self.settings, errors=None if errors == "model" else errors)
        return pool(self.name, [f.with_errors(errors) for f in self.imputations], self.cells, own)


def fit_imputed(sentence: str | Sentence, table: Table, settings: Settings, name: str, report: Progress) -> Fit:
    """Fit a sentence to rows whose missing covariates are drawn as ``settings.impute`` asks, and pool.

    Raises OrchardError for sentences and data whose gaps cannot be drawn, and where a completed table cannot be fitted.
    """
    spec, asked = read_sentence(sentence) if isinstance(sentence, str) else sentence, settings.impute
    assert asked is not None
    cells = imputed(spec, table, settings.options, settings.search, asked, report)
    check_df(cells.first, settings)
    if not cells.filled:
        return _complete(of_model(name, estimate(cells.first, settings.search), settings), cells)
    fits: list[Fit] = []
    for i in range(asked.draws):
        made = of_model(name, estimate(cells.design(i, settings.options), settings.search), settings)
        if made.model.kept != (fits[0] if fits else made).model.kept:
            raise OrchardError(
                f"completed table {i + 1} does not tell apart the terms that others do; try a simpler sentence"
            )
        fits.append(made)
    return pool(name, fits, cells, settings)


def _complete(plain: Fit, cells: Imputed) -> Fit:
    """The plain fit, where no covariate has a gap."""
    terms = [{"term": r.term, "fraction": None if r.estimate is None else 0.0} for r in plain.result.fixed]
    told = _imputation(cells, terms)
    notes = [*cells.gaps.notes, "No covariate has a gap, so nothing was drawn: this is the plain fit."]
    rows = plain.result.rows.to_dict() | {"read": cells.gaps.table.read, "dropped": cells.gaps.dropped}
    made = plain.result.to_dict() | {"imputation": told, "notes": [*plain.result.notes, *notes], "rows": rows}
    return replace(plain, result=FitResult.from_dict(made))


def pool(name: str, fits: Sequence[Fit], cells: Imputed, settings: Settings) -> ImputedFit:
    """The fits of completed tables as one, by Rubin's rules."""
    one, table = fits[0], cells.table(None)
    design = recoded(with_units_anew(one.design), table)
    gaussian = one.criterion.profiled
    criterion: Any = make_criterion(design, one.criterion.reml) if gaussian else make_laplace(design)
    model = replace(one.model, design=design, criterion=criterion)
    if model.kept != one.model.kept:
        raise OrchardError("the completed tables tell apart terms that their means do not; try a simpler sentence")
    psi, covariances = _parameters(fits, model)
    b = np.array([f.evaluation.b for f in fits])
    effects = [_effects([f.model.effects[k] for f in fits]) for k in range(len(design.blocks))]
    pooling = Pooling(b, *covariances, effects)
    found = replace(
        one.model.found,
        point=pooled_point(criterion, psi, pooling),
        converged=all(f.converged for f in fits),
        rival=None,
    )
    model = replace(model, found=found)
    known = _inference(model, [f.known for f in fits], pooling)
    result = _document(name, model, known, settings, fits, cells)
    return ImputedFit(name, model, settings, known, result, None, tuple(fits), cells)


def _inference(
    model: FittedModel[Any, Any], parts: Sequence[CoefficientInference], pooling: Pooling
) -> CoefficientInference:
    return (PooledCoefficients if model.criterion.profiled else PooledLikelihood)(model, parts, pooling)


def _parameters(fits: Sequence[Fit], model: FittedModel[Any, Any]) -> tuple[Array, tuple[Array, Array]]:
    """All parameters of the search on the scale of ``model``, pooled, SDs of effects on the log scale; their covariance by the errors asked for, and by
    the model."""
    c, m, after = model.criterion, len(fits), column_means(model)
    made, within = [], []
    for f in fits:
        before, psi, steps = column_means(f.model), f.evaluation.psi, STEP * np.eye(len(f.evaluation.psi))
        moved, back = ([on_scale_of(f.model, c, psi + side * h, before, after) for h in steps] for side in (1.0, -1.0))
        turn = (np.array(moved) - np.array(back)).T.reshape(len(psi), len(psi)) / (2.0 * STEP)
        made.append(on_scale_of(f.model, c, psi, before, after))
        own = (f.known.parameter_covariance, f.known.model_parameter_covariance)
        within.append([turn @ covariance @ turn.T for covariance in own])
    middle = np.mean(made, axis=0)
    away = np.array(made) - middle
    sigma2 = float(np.exp(middle[-1])) if c.profiled and not c.known else 1.0
    for k, (structure, at) in enumerate(zip(c.structures, c.slices)):
        turn = c.products.z_to_work[k]
        g = _covariance([f.evaluation.covariance(k) for f in fits]) / sigma2
        middle[at] = structure.of_covariance(turn @ g @ turn.T)
    between = (1.0 + 1.0 / m) * away.T @ away / (m - 1)
    plain, by_model = (np.mean([w[k] for w in within], axis=0) + between for k in (0, 1))
    return middle, (plain, by_model)


def _covariance(made: Sequence[Array]) -> Array:
    """Geometric means of the SDs (plain ones where some is zero) beside the mean correlations."""
    sds = np.sqrt(np.array([np.diag(g) for g in made]))
    with np.errstate(all="ignore"):
        sd = np.where((sds > 0).all(axis=0), np.exp(np.log(sds).mean(axis=0)), sds.mean(axis=0))
        r = np.nan_to_num(np.array([g / np.outer(s, s) for g, s in zip(made, sds)])).mean(axis=0)
    r[np.diag_indices(len(r))] = 1.0
    return np.asarray(r * np.outer(sd, sd))


def _effects(made: Sequence[tuple[Array, Array]]) -> tuple[Array, Array]:
    """Predicted effects (levels, k) and the covariances of their errors (levels, k, k), pooled."""
    means, m = np.array([e for e, _ in made]), len(made)
    away = means - means.mean(axis=0)
    between = np.einsum("mja,mjb->jab", away, away) / (m - 1)
    return means.mean(axis=0), np.mean([c for _, c in made], axis=0) + (1.0 + 1.0 / m) * between


def _document(
    name: str, model: FittedModel[Any, Any], known: Any, settings: Settings, fits: Sequence[Fit], cells: Imputed
) -> FitResult:  # fmt: skip
    made = summarise(name, model, known, settings.df, settings.confidence, Trouble())
    gaps = cells.gaps
    filled = {f.covariate.column: f.missing for f in cells.filled}
    fractions = iter(pooled(known.pooling.b, known.covariances, known.complete_df).missing)
    coefficients = {r.term for r in one_fixed(fits[0])}
    terms = [
        {
            "term": r.term,
            "fraction": number(next(fractions)) if r.estimate is not None and r.term in coefficients else None,
        }
        for r in made.fixed
    ]
    means = np.array([f.result.mean_random_variance for f in fits], dtype=float).reshape(len(fits), -1).mean(axis=0)
    own: dict[str, Any] = {"mean_random_variance": means.tolist()}
    if model.design.additive:
        own["mean_residual_variance"] = number(float(np.mean([f.result.mean_residual_variance for f in fits])))
    if settings.errors is not None:
        own["errors"] = fits[0].known.errors_used
    warnings = [*_convergence(cells, fits), *made.warnings]
    notes = [*warnings, *(n for n in made.notes if n not in made.warnings), *gaps.notes, _pooled_note(cells, filled)]
    rows = made.rows.to_dict() | {"read": gaps.table.read, "dropped": gaps.dropped}
    blank = made.fit.to_dict() | dict.fromkeys(("loglik", "deviance", "aic", "bic"))
    return FitResult.from_dict(
        made.to_dict() | own
        | {"df_method": CALLED, "rows": rows, "fit": blank, "warnings": warnings, "notes": notes, "imputation": _imputation(cells, terms)}
    )  # fmt: skip


def one_fixed(fit: Fit) -> list[Any]:
    """The coefficients of a fit, without thresholds."""
    return list(fit.result.fixed[len(fit.result.thresholds) :])


def _imputation(cells: Imputed, terms: list[dict[str, Any]]) -> dict[str, Any]:
    return Imputation.from_dict(
        {
            "draws": cells.asked.draws,
            "columns": [
                {"column": f.covariate.column, "missing": f.missing, "kind": f.covariate.latent.name, "level": f.covariate.unit or "row",
                 "mean_r_hat": number(f.mean_r_hat), "sd_r_hat": number(f.sd_r_hat)}
                for f in cells.filled
            ],
            "fraction_missing": terms, "beside": list(cells.asked.beside), "seed": cells.asked.seed,
        }
    ).to_dict()  # fmt: skip


def _convergence(cells: Imputed, fits: Sequence[Fit]) -> list[Note | str]:
    """What makes the draws or their fits doubtful."""
    out: list[Note | str] = []
    apart = [f.covariate.column for f in cells.filled if not f.agrees]
    if apart:
        out.append(
            f"The chains that drew {', '.join(apart)} do not agree (R-hat above 1.1): the sentence asks more of the rows than they tell; try a simpler "
            "one, or fewer columns."
        )
    failed = sum(not f.converged for f in fits)
    if failed:
        out.append(
            f"{failed} of {len(fits)} completed tables were fitted without convergence; the pooled figures must not be used."
        )
    return out


def _pooled_note(cells: Imputed, missing: dict[str, int]) -> str:
    counts = ", ".join(f"{name} in {n:,} rows" for name, n in missing.items())
    return (
        f"Missing covariates ({counts}) were drawn {cells.asked.draws} times given the outcome and the other covariates (seed {cells.asked.seed}), the "
        "sentence fitted to each completed table, and the fits pooled by Rubin's rules. This holds where gaps depend on what was observed, not on the "
        "missing values themselves. There is no log-likelihood of pooled fits."
    )
