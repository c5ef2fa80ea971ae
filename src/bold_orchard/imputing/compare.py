"""Nested pooled fits compared by likelihood: the ratios of completed tables, at their own estimates and at those of all together (Chan & Meng 2022)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special
from scipy.linalg import block_diag

from bold_orchard.design.build import build_design
from bold_orchard.design.design import Block, Design, UnitCodes
from bold_orchard.design.model_matrix import ModelMatrix
from bold_orchard.errors import OrchardError
from bold_orchard.estimation.estimate import estimate
from bold_orchard.estimation.gaussian_search import make_criterion
from bold_orchard.estimation.gaussian_search import search as gaussian_search
from bold_orchard.estimation.generalized_search import make_laplace, with_points
from bold_orchard.estimation.generalized_search import search as generalized_search
from bold_orchard.estimation.model import EDGE
from bold_orchard.imputing.fit import ImputedFit, pool
from bold_orchard.imputing.impute import Imputed, evenly_filled
from bold_orchard.imputing.walk import column_means, on_scale_of
from bold_orchard.inference.coefficients.rubin import joint_df
from bold_orchard.inference.comparison.compare import SCHEMA, comparable
from bold_orchard.inference.comparison.nested import relation
from bold_orchard.inference.fit import Fit, of_model
from bold_orchard.inference.summary import number
from bold_orchard.results.compare import CompareResult

Array = NDArray[Any]


def compare_pooled(fits: Sequence[Fit], force: bool) -> CompareResult:
    """The document of ``orchard compare`` of pooled fits, by maximum likelihood on the completed tables of the largest of them.

    Raises OrchardError for fits without draws beside fits with them, of other rows, and whose covariates the largest did not draw.
    """
    comparable(fits, force)
    plain = next((f for f in fits if not isinstance(f, ImputedFit)), None)
    if plain is not None:
        raise OrchardError(
            f"'{plain.name}' was fitted without --impute, to other rows than a pooled fit; fit it again with --impute"
        )
    ordered = sorted(fits, key=lambda f: f.result.fit.n_parameters)
    largest: Any = ordered[-1]
    made = [_by_ml(f, largest) for f in ordered]
    models = [
        {"name": f.name, "model": f.result.model, "n_parameters": f.result.fit.n_parameters, "converged": f.converged,
         "boundary": f.result.convergence.boundary}
        | dict.fromkeys(("loglik", "deviance", "aic", "aicc", "bic", "delta_aic", "delta_bic", "akaike_weight"))
        for f in made
    ]  # fmt: skip
    pairs = [_test(small, large) for small, large in pairwise(made)]
    refitted = [f.name for f in ordered]
    note = (
        f"All fits were made anew by maximum likelihood on the {largest.cells.asked.draws} completed tables of {largest.name}, and their ratios pooled (Chan "
        "& Meng 2022): chisq is df times the pooled F, whose denominator df stand in den_df. Pooled fits have no log-likelihood, AIC or BIC of their own."
    )
    return CompareResult.from_dict(
        {"schema": SCHEMA, "method": made[0].result.method, "refitted": refitted, "outcome": largest.design.outcome, "rows": largest.design.n_rows,
         "models": models, "tests": [t for t, _ in pairs], "notes": [note, *(n for _, words in pairs for n in words)]}
    ).with_keys(lines=None)  # fmt: skip


def _by_ml(fit: Fit, largest: Any) -> ImputedFit:
    """A fit by maximum likelihood on the completed tables of the largest; itself with normal tests, since only its likelihoods are asked for."""
    cells: Imputed = largest.cells
    own: Any = fit
    gaps = cells.gaps
    lacking = [
        f.covariate.column
        for f in own.cells.filled
        if f.covariate.column not in {g.covariate.column for g in cells.filled}
    ]
    if lacking:
        raise OrchardError(
            f"'{largest.name}' did not draw {', '.join(lacking)}, which '{fit.name}' has; name it there with --impute-with {lacking[0]}"
        )
    if not np.array_equal(own.design.table.row_numbers, largest.design.table.row_numbers):
        raise OrchardError(
            f"'{fit.name}' and '{largest.name}' used other rows; likelihoods compare on the same rows only"
        )
    settings = replace(fit.settings, method="ml", df="normal", errors=None)
    first = build_design(fit.design.sentence, evenly_filled(gaps).take(gaps.kept), settings.options)
    cells = replace(cells, first=first)
    made = [
        of_model(fit.name, estimate(cells.design(i, settings.options), settings.search), replace(settings, impute=None))
        for i in range(cells.asked.draws)
    ]
    return pool(fit.name, made, cells, settings)


def _together(fit: ImputedFit) -> float:
    """The least mean deviance of the completed tables at one set of parameters: that of their rows together, units of each apart (Chan & Meng 2022)."""
    designs = [f.design for f in fit.imputations]
    design = _stacked(designs)
    options, n = fit.settings.search, len(designs)
    before, after = column_means(fit.model), np.mean([column_means(f.model) for f in fit.imputations], axis=0)
    if fit.criterion.profiled:
        gaussian = make_criterion(design, False)
        start = gaussian.split(on_scale_of(fit.model, gaussian, fit.evaluation.psi, before, after))[0]
        found = gaussian_search(gaussian, np.where(gaussian.bounded, np.maximum(start, EDGE), start), options)
        return found.point.deviance / n
    laplace = with_points(make_laplace(design), fit.model.points)
    start = on_scale_of(fit.model, laplace, fit.evaluation.psi, before, after)
    there = generalized_search(laplace, np.where(laplace.bounded, np.maximum(start, EDGE), start), options, None)
    return float(there.point.deviance) / n


def _stacked(designs: Sequence[Design]) -> Design:
    """Designs of one sentence under each other, the levels of their units apart; of the table nothing is kept."""
    one = designs[0]

    def rows(parts: Sequence[Array | None]) -> Array | None:
        made = [p for p in parts if p is not None]
        return np.concatenate(made) if len(made) == len(parts) else None

    def columns(parts: Sequence[ModelMatrix]) -> ModelMatrix:
        return replace(parts[0], values=tuple(np.concatenate(v) for v in zip(*(p.values for p in parts))))

    blocks = []
    for k, block in enumerate(one.blocks):
        size, factor = block.unit.size, block.relationship_factor
        codes = np.concatenate([d.blocks[k].unit.codes + i * size for i, d in enumerate(designs)])
        labels = tuple(f"{i}" for i in range(size * len(designs)))
        unit = UnitCodes(block.unit.name, codes, size * len(designs), (), labels)
        blocks.append(Block(unit, None if factor is None else block_diag(*[factor] * len(designs))))
    low, high = (rows([None if d.limits is None else d.limits[k] for d in designs]) for k in (0, 1))
    clauses = [replace(c, part=columns([d.clauses[k].part for d in designs])) for k, c in enumerate(one.clauses)]
    return replace(
        one, y=np.concatenate([d.y for d in designs]), fixed=columns([d.fixed for d in designs]), offset=rows([d.offset for d in designs]),
        weights=rows([d.weights for d in designs]), trials=rows([d.trials for d in designs]),
        limits=None if low is None or high is None else (low, high), blocks=tuple(blocks), clauses=tuple(clauses),
    )  # fmt: skip


def _test(small: ImputedFit, large: ImputedFit) -> tuple[dict[str, Any], list[str]]:
    link = relation(small.design, large.design)
    df = large.result.fit.n_parameters - small.result.fit.n_parameters
    blank = dict.fromkeys(("chisq", "df", "p", "p_boundary", "p_bootstrap", "bayes_factor"))
    test: dict[str, Any] = {"smaller": small.name, "larger": large.name, "nested": link.nested and df > 0} | blank
    test["variance_explained"] = []
    if not test["nested"]:
        return test, [f"{small.name} is not a special case of {large.name}, so no ratio test applies."]
    m = len(large.imputations)
    own = [np.mean([f.evaluation.deviance for f in fit.imputations]) for fit in (small, large)]
    single, together = float(own[0] - own[1]), max(_together(small) - _together(large), 0.0)
    r = max((m + 1.0) / (df * (m - 1.0)) * (single - together), 0.0)
    value, den = together / (df * (1.0 + r)), joint_df(r, df, m, None)
    chisq = df * value
    test |= {"chisq": number(chisq), "df": df, "p": number(_tail(chisq, df, den)), "den_df": number(den)}
    if link.extra_effects == 1:
        test["p_boundary"] = number(0.5 * (_tail(chisq, df, den) + _tail(chisq, df - 1, den)))
        return test, [
            f"{large.name} against {small.name} tests a variance at its boundary, zero: read p_boundary; the plain p is too large."
        ]
    if link.extra_effects > 1:
        return test, [
            f"{large.name} against {small.name} tests {link.extra_effects} variances at zero at once; the plain p is too large: take one at a time."
        ]
    return test, []


def _tail(chisq: float, df: int, den: float) -> float:
    """P(df F > chisq); of no df the half of the mixture that is zero."""
    if df == 0:
        return float(chisq <= 0.0)
    return float(special.chdtrc(df, chisq)) if not np.isfinite(den) else float(special.fdtrc(df, den, chisq / df))
