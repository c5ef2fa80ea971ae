"""Adjusted means of a term's levels, their differences, and slopes per level."""

from __future__ import annotations

import itertools
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from bold_orchard.design.build import fixed_part
from bold_orchard.design.functions import Maker
from bold_orchard.errors import OrchardError, unknown_name
from bold_orchard.fitting import Fit
from bold_orchard.inference.adjust import adjusted
from bold_orchard.inference.distributions import p_of_t, quantile_t
from bold_orchard.inference.freedom import Precision
from bold_orchard.inference.outcome import outcome_scale
from bold_orchard.inference.summary import number
from bold_orchard.sentence import spec
from bold_orchard.table.table import Table

Array = NDArray[Any]
SCHEMA = "bold-orchard/means/1"
MOST_CELLS = 50_000


class Grid:
    """All combinations of the fixed part's categories, covariates at their means: rows of X to average.

    ``term`` is a category or a product of categories of the fixed part; ``at`` holds covariates at other values.
    """

    def __init__(self, fit: Fit, term: str, at: dict[str, float]) -> None:
        self.fit, self.at = fit, at
        self.all = dict(fit.design.categories())
        self.factors = term.split("*") if term else []
        for factor in self.factors:
            if factor not in self.all:
                known = list(self.all) or ["(no category)"]
                raise OrchardError(unknown_name("category", factor, known, f"the fixed part of '{fit.name}'"))
        cells = int(np.prod([len(c.levels) for c in self.all.values()], dtype=float))
        if cells > MOST_CELLS:
            raise OrchardError(
                f"the categories of '{fit.name}' have {cells:,} combinations; {MOST_CELLS:,} at most can be averaged"
            )

    @cached_property
    def combinations(self) -> list[dict[str, str]]:
        """Every combination of all categories, the term's own first."""
        names = [*self.factors, *(n for n in self.all if n not in self.factors)]
        return [dict(zip(names, c)) for c in itertools.product(*(self.all[n].levels for n in names))]

    @cached_property
    def x(self) -> Array:
        """(combinations, p') rows of X."""
        return self.matrix(self.at)

    def matrix(self, at: dict[str, float]) -> Array:
        design = self.fit.design
        columns: dict[str, Any] = {}
        for name in {c.name for c in spec.columns_of(design.sentence.terms)}:
            if design.table.kind(name) == "number":
                columns[name] = np.full(len(self.combinations), at.get(name, float(design.table.numbers(name).mean())))
        for column, name in design.coded_columns().items():
            values = [c[name] for c in self.combinations]
            columns[column] = np.asarray(values, dtype=float) if column in columns else np.asarray(values, dtype=object)
        for unit in self._units():
            columns[unit] = np.full(len(self.combinations), design.table.labels(unit).texts[0], dtype=object)
        table = Table(pd.DataFrame(columns, index=range(len(self.combinations))), "the grid", len(self.combinations))
        constants = {
            name: float(v.mean()) for name, v in zip(design.fixed.names, design.fixed.values) if self._is_by_unit(name)
        }
        maker = Maker(table, design.memory, learn=False, constants=constants)
        plain = tuple(t for t in design.fixed.terms if not t.is_intercept)
        part = fixed_part(plain, design.sentence, maker, design.family)
        kept = self.fit.evaluation.criterion.products.standard.kept
        return np.column_stack([part.values[c] for c in kept])

    def _calls(self) -> list[spec.Call]:
        found = []
        stack: list[Any] = [f for t in self.fit.design.fixed.terms for f in t.factors]
        while stack:
            item = stack.pop()
            if isinstance(item, spec.Call):
                found.append(item)
                stack += item.arguments
        return found

    def _units(self) -> set[str]:
        by_unit = [c for c in self._calls() if c.function in ("centre", "mean", "split") and len(c.arguments) == 2]
        return {c.arguments[1].name for c in by_unit if isinstance(c.arguments[1], spec.Column)}

    def _is_by_unit(self, name: str) -> bool:
        return any(name.startswith(("centre(", "mean(")) and name.endswith(f", {unit})") for unit in self._units())

    def row(self, levels: dict[str, str]) -> Array:
        """The mean row of X over the combinations that have these levels, equal weights: (p',)."""
        have = [all(c[k] == v for k, v in levels.items()) for c in self.combinations]
        return np.asarray(self.x[have].mean(axis=0))

    def targets(self) -> list[dict[str, str]]:
        """The combinations of the term's own levels."""
        return [dict(zip(self.factors, c)) for c in itertools.product(*(self.all[f].levels for f in self.factors))]


def means(
    fit: Fit, term: str, at: dict[str, list[float]] | None = None, adjust: str = "tukey", df_method: str | None = None,
    confidence: float = 0.95, slope: str | None = None, force: bool = False,
) -> dict[str, Any]:  # fmt: skip
    """The document of ``orchard means``: equal weights over the other categories, covariates at their means or ``at``.

    With ``slope`` the same of the slope of a covariate. Raises OrchardError for an unknown term or covariate, for a mean
    that rests on an aliased coefficient, and for a fit that did not converge (unless ``force``).
    """
    if not fit.converged and not force:
        raise OrchardError(f"the fit '{fit.name}' did not converge, so its means mean nothing; mend it, or --force")
    at = at or {}
    _check_covariates(fit, [*at, *([slope] if slope else [])])
    if any(c is None for c in (r["estimate"] for r in fit.result["fixed"])):
        raise OrchardError(
            f"'{fit.name}' has aliased coefficients, so its adjusted means are not estimable; leave the aliased terms out"
        )
    entries: list[tuple[dict[str, Any], Array]] = []
    for values in itertools.product(*at.values()) if at else [()]:
        held = dict(zip(at, values))
        grid = Grid(fit, term, held)
        if slope:
            grid.x = _slopes(fit, grid, slope)
        entries += [(levels | held, grid.row(levels)) for levels in grid.targets()]
    rows = np.array([row for _, row in entries])
    method = df_method or fit.settings.df
    known = fit.precision(method)
    e, constant = fit.evaluation, 0.0 if fit.design.offset is None or slope else float(fit.design.offset.mean())
    made = []
    for levels, row in entries:
        mean, se, df = float(row @ e.b) + constant, known.se(row), known.df(row[None, :])
        width = quantile_t(confidence, df) * se
        entry = {"levels": levels, "mean": number(mean), "se": number(se), "df": df, "ci": [mean - width, mean + width]}
        made.append(entry | (outcome_scale(fit, mean, se, width) if fit.design.generalized and not slope else {}))
    pairs, errors = _pairs(known, entries, rows, adjust, confidence)
    return {
        "schema": SCHEMA,
        "name": fit.name,
        "model": fit.result["model"],
        "outcome": fit.result["outcome"],
        "term": term,
        "slope": slope,
        "means": made,
        "sed": _sed(errors),
        "pairs": pairs,
        "adjust": adjust,
        "df_method": method,
        "confidence": confidence,
        "link": fit.design.link,
        "covariates": _held(fit, at),
        "notes": [],
    }


def _check_covariates(fit: Fit, names: list[str]) -> None:
    known = [c.name for c in spec.columns_of(fit.design.sentence.terms) if fit.design.table.kind(c.name) == "number"]
    for name in names:
        if name not in known:
            raise OrchardError(unknown_name("covariate", name, known or ["(none)"], f"the fixed part of '{fit.name}'"))


def _held(fit: Fit, at: dict[str, list[float]]) -> dict[str, float]:
    """Covariates at their means."""
    columns = [c.name for c in spec.columns_of(fit.design.sentence.terms)]
    table = fit.design.table
    categories = fit.design.coded_columns()
    return {
        c: float(table.numbers(c).mean())
        for c in columns
        if table.kind(c) == "number" and c not in at and c not in categories
    }


def _slopes(fit: Fit, grid: Grid, covariate: str) -> Array:
    """Derivative of every grid row in a covariate, by central differences over a thousandth of its SD."""
    values = fit.design.table.numbers(covariate)
    h, here = 1e-3 * float(values.std()), grid.at.get(covariate, float(values.mean()))
    up, down = (grid.matrix(grid.at | {covariate: here + side}) for side in (h, -h))
    return np.asarray((up - down) / (2 * h))


def label(levels: dict[str, Any]) -> str:
    return ", ".join(v if isinstance(v, str) else f"{k} {v:g}" for k, v in levels.items())


def _pairs(
    known: Precision, entries: list[tuple[dict[str, Any], Array]], rows: Array, adjust: str, confidence: float
) -> tuple[list[dict[str, Any]], Array]:
    """Differences a - b of all pairs, and the matrix of their standard errors."""
    n = len(rows)
    errors = np.zeros((n, n))
    pairs: list[dict[str, Any]] = []
    for i, j in itertools.combinations(range(n), 2):
        row = rows[i] - rows[j]
        difference, se = float(row @ known.e.b), known.se(row)
        errors[i, j] = errors[j, i] = se
        df = known.df(row[None, :])
        t = difference / se if se > 0 else np.nan
        pairs.append({"a": label(entries[i][0]), "b": label(entries[j][0]), "difference": number(difference), "se": number(se),
                      "df": df, "statistic": number(t), "p": number(p_of_t(t, df))})  # fmt: skip
    for pair, (p, factor) in zip(pairs, adjusted(pairs, adjust, n, confidence)):
        width = factor * (pair["se"] or 0.0)
        pair |= {"p_adjusted": number(p), "ci": [pair["difference"] - width, pair["difference"] + width]}
    return pairs, errors


def _sed(errors: Array) -> dict[str, Any]:
    off = errors[np.triu_indices(len(errors), 1)]
    if not len(off):
        return {"min": None, "mean": None, "max": None, "matrix": errors.tolist()}
    return {"min": float(off.min()), "mean": float(off.mean()), "max": float(off.max()), "matrix": errors.tolist()}
