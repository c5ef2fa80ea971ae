"""The document of ``orchard anova``."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.classical.sources import Source, directions, indicator, orthonormal, own_columns, sources_of
from bold_orchard.diagnostics.normality import shapiro_wilk
from bold_orchard.diagnostics.spread import brown_forsythe
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.summary import number
from bold_orchard.results.anova import AnovaResult

Array = NDArray[Any]
SCHEMA = "bold-orchard/anova/1"
RESIDUAL = "residual"
NOTHING = 1e-8  # coefficients of an expectation below which a variance is not in it


def anova(fit: Fit, kind: int = 3, restricted: bool = False) -> AnovaResult:
    """Sums of squares, expected mean squares, the error of every line, components by moments.

    E[MS_s] = sum over units U of tr(C_s Z_U Z_U')/df_s sigma2_U + sigma2 + Q_s (Hartley 1967). The error of a line is the
    combination of mean squares that has its expectation where its own effect is none; df of one put together by
    Satterthwaite (1946).

    Raises OrchardError for fits that are no sentence of categories, and for ``restricted`` with unbalanced data.
    """
    if kind not in (1, 2, 3):
        raise UsageError(f"the type is 1, 2 or 3, not {kind!r}")
    design = fit.design
    sources = sources_of(design)
    if not sources:
        raise OrchardError(f"'{fit.name}' has no term and no unit, so there is nothing to analyse")
    even = balanced(sources)
    if restricted and not even:
        raise OrchardError(
            "--restricted is for balanced data, and here the cells differ in their numbers of rows; leave it out"
        )
    y = design.outcome_values
    table = _Lines(sources, directions(sources, kind), y, restricted)
    if table.df[-1] < 1:
        raise OrchardError(
            "no rows are left for the residual: every cell has one row; leave the finest unit or product out"
        )
    rows = [table.row(i) for i in range(len(sources) + 1)]
    document = {
        "schema": SCHEMA, "name": fit.name, "model": fit.result["model"], "outcome": fit.result["outcome"], "type": kind,
        "restricted": restricted, "balanced": even, "rows": rows, "components": table.components(fit),
        "equal_spread": _equal_spread(sources, table.rest), "normality": _normality(table.rest),
        "notes": _notes(table, rows, kind, restricted, even),
    }  # fmt: skip
    return AnovaResult.from_dict(document).with_keys(picture=_Picture.of(fit, sources, y))


def balanced(sources: Sequence[Source]) -> bool:
    """Whether every source has as many rows in all its cells, and factors that cross meet in all combinations."""
    if any(len(np.unique(np.bincount(s.codes))) > 1 for s in sources):
        return False
    return all(_proportional(a, b) for i, a in enumerate(sources) for b in sources[:i])


def _proportional(a: Source, b: Source) -> bool:
    """Cells of the two meet equally often or, where one lies in the other, always in one."""
    if a.inside(b) or b.inside(a):
        return True
    counts = np.bincount(a.codes * b.cells + b.codes, minlength=a.cells * b.cells)
    met = counts[counts > 0]
    return bool(met.min() == met.max()) and (
        len(met) == len(counts) or bool(a.factors & b.factors) or _shared_parent(a, b)
    )


def _shared_parent(a: Source, b: Source) -> bool:
    """Whether both lie in cells of something that keeps them apart, each meeting as many of the other's."""
    pairs = np.unique(np.column_stack([a.codes, b.codes]), axis=0)
    return all(len(np.unique(np.bincount(pairs[:, k]))) == 1 for k in (0, 1))


class _Lines:
    """Sums of squares and expectations of all sources; the residual is the last line."""

    def __init__(self, sources: list[Source], q: list[Array], y: Array, restricted: bool) -> None:
        self.sources, self.n = sources, len(y)
        n = self.n
        whole = orthonormal(np.hstack([np.ones((n, 1)), *(indicator(s) for s in sources)]))
        centred = y - y.mean()
        self.rest = centred - whole @ (whole.T @ centred)
        self.df = [*(m.shape[1] for m in q), n - whole.shape[1]]
        self.ss = [*(float(np.sum((m.T @ centred) ** 2)) for m in q), float(self.rest @ self.rest)]
        self.ms = [ss / df if df else None for ss, df in zip(self.ss, self.df)]
        self.random = [i for i, s in enumerate(sources) if s.kind == "random"]
        self.coefficients = np.zeros((len(sources) + 1, len(self.random) + 1))
        self.coefficients[:, -1] = 1.0
        fixed = {c for s in sources if s.kind == "fixed" for c in s.factors}
        for a, m in enumerate(q):
            for b, u in enumerate(self.random):
                held = sources[u].factors & fixed
                if m.shape[1] and not (restricted and held - sources[a].factors):
                    self.coefficients[a, b] = float(np.sum((m.T @ indicator(sources[u])) ** 2)) / m.shape[1]
        self.coefficients[np.abs(self.coefficients) < NOTHING] = 0.0
        own = [own_columns(s, sources) for s in sources]
        self.forms = [
            [j for j, s in enumerate(sources) if s.kind == "fixed" and m.shape[1]
             and float(np.linalg.norm(m.T @ own[j])) > NOTHING * max(float(np.linalg.norm(own[j])), 1e-300)]
            for m in q
        ] + [[]]  # fmt: skip

    def name(self, i: int) -> str:
        return RESIDUAL if i == len(self.sources) else self.sources[i].name

    def kind(self, i: int) -> str:
        return RESIDUAL if i == len(self.sources) else self.sources[i].kind

    def expected(self, i: int) -> list[dict[str, Any]]:
        """The residual, then the random sources from the finest, then fixed forms."""
        out = [{"component": RESIDUAL, "coefficient": 1.0}]
        for b in reversed(range(len(self.random))):
            if self.coefficients[i, b]:
                out.append({"component": self.name(self.random[b]), "coefficient": number(self.coefficients[i, b])})
        return out + [{"component": f"fixed: {self.name(j)}", "coefficient": 1.0} for j in self.forms[i]]

    def error(self, i: int) -> dict[int, float] | None:
        """Weights of the mean squares whose expectation is that of line i without its own effect; None where there are none."""
        target = self.coefficients[i].copy()
        if i in self.random:
            target[self.random.index(i)] = 0.0
        lines = [k for k in [*self.random, len(self.sources)] if k != i and self.df[k] and not self.forms[k]]
        for k in lines:
            if np.allclose(self.coefficients[k], target, rtol=1e-7, atol=1e-7):
                return {k: 1.0}
        m = self.coefficients[lines].T
        weights = np.linalg.lstsq(m, target, rcond=None)[0]
        if not np.allclose(m @ weights, target, rtol=1e-6, atol=1e-6):
            return None
        return {k: float(w) for k, w in zip(lines, weights) if abs(w) > NOTHING}

    def row(self, i: int) -> dict[str, Any]:
        row: dict[str, Any] = {
            "source": self.name(i), "kind": self.kind(i), "df": self.df[i], "ss": number(self.ss[i]), "ms": self.ms[i],
            "expected": self.expected(i) if self.df[i] else [], "error": [], "error_ms": None, "error_df": None, "f": None, "p": None,
            "eta_squared_partial": None, "omega_squared_partial": None,
        }  # fmt: skip
        if i == len(self.sources) or not self.df[i]:
            return row
        weights = self.error(i)
        if weights is None:
            return row
        parts = {k: w * (self.ms[k] or 0.0) for k, w in weights.items()}
        ms = sum(parts.values())
        df = (
            float(self.df[next(iter(weights))])
            if len(weights) == 1
            else ms**2 / sum(v**2 / self.df[k] for k, v in parts.items())
        )
        row |= {"error": [{"source": self.name(k), "weight": number(w)} for k, w in weights.items()], "error_ms": number(ms),
                "error_df": number(df) if ms > 0 else None}  # fmt: skip
        if ms <= 0:
            return row
        f = float(self.ms[i] or 0.0) / ms
        row |= {"f": number(f), "p": number(float(special.fdtrc(self.df[i], df, f)))}
        if self.kind(i) == "fixed":
            row["eta_squared_partial"] = number(self.ss[i] / (self.ss[i] + ms * df))
            gain = self.df[i] * (f - 1.0)
            row["omega_squared_partial"] = number(gain / (gain + self.n))
        return row

    def components(self, fit: Fit) -> list[dict[str, Any]]:
        """Variances that make the mean squares of random sources and of the residual equal to their expectations."""
        lines = [k for k in [*self.random, len(self.sources)] if self.df[k]]
        ms = np.array([self.ms[k] for k in lines], dtype=float)
        solved, *_ = np.linalg.lstsq(self.coefficients[lines], ms, rcond=None)
        reml = {p["group"]: p["covariance"][0][0] for p in fit.result["random"]} | {
            RESIDUAL: fit.result["residual"]["variance"]
        }
        names = [*(self.name(k) for k in self.random), RESIDUAL]
        return [
            {"component": n, "estimate": number(v), "negative": bool(v < 0), "reml": reml.get(n)}
            for n, v in zip(names, solved)
        ]


def _equal_spread(sources: list[Source], rest: Array) -> dict[str, Any] | None:
    fixed = [s for s in sources if s.kind == "fixed"]
    if not fixed:
        return None
    joint = np.zeros(len(rest), dtype=np.int64)
    for s in fixed:
        joint = np.unique(joint * s.cells + s.codes, return_inverse=True)[1].ravel()
    return brown_forsythe(rest, joint.astype(np.intp))


def _normality(rest: Array) -> dict[str, Any] | None:
    made = shapiro_wilk(rest[:5000]) if float(np.ptp(rest)) > 0 else None
    return None if made is None else {"w": made[0], "p": made[1]}


def _notes(table: _Lines, rows: list[dict[str, Any]], kind: int, restricted: bool, even: bool) -> list[str]:
    out = [
        f"{', '.join(s.name for s in table.sources if s.kind == k) or 'nothing'} {'are' if sum(s.kind == k for s in table.sources) > 1 else 'is'} "
        f"{words}"
        for k, words in (
            ("fixed", "fixed: these levels themselves are the question."),
            ("random", "random: a sample of levels that might have been others."),
        )
        if any(s.kind == k for s in table.sources)
    ]
    mixed = [
        s
        for s in table.sources
        if s.kind == "random" and any(f.kind == "fixed" and s.factors & f.factors for f in table.sources)
    ]
    if mixed and even:
        this, other = (
            ("add to zero over the fixed factor", "leave --restricted out")
            if restricted
            else ("are independent", "--restricted")
        )
        out.append(
            f"Effects of {', '.join(s.name for s in mixed)} {this} here; by the other convention ({other}) the lines of the units that "
            "lie in them have another error, while those of the fixed factors are the same."
        )
    together = [r["source"] for r in rows if len(r["error"]) > 1]
    if together:
        out.append(
            f"No single mean square is the error of {', '.join(together)}: it is put together, its df by Satterthwaite."
        )
    none = [r["source"] for r in rows if r["kind"] != RESIDUAL and r["df"] and r["f"] is None]
    if none:
        out.append(
            f"There is no error to test {', '.join(none)} against: no combination of mean squares has its expectation, or what there is is not above zero."
        )
    lost = [r["source"] for r in rows if r["kind"] != RESIDUAL and not r["df"]]
    if lost:
        out.append(f"{', '.join(lost)} has no df of its own: the other sources say all it could.")
    negative = [c for c in (r for r in rows if r["kind"] == "random") if c["f"] is not None and c["f"] < 1]
    if negative:
        out.append(
            f"The mean square of {', '.join(r['source'] for r in negative)} is below its error, so its component by moments is negative: the "
            "units differ less than chance makes rows differ. REML holds it at zero."
        )
    if not even:
        out.append(
            f"The cells differ in their numbers of rows, so types 1, 2 and 3 differ (this is type {kind}), and errors that are put together are approximate."
        )
    return out


class _Picture:
    """What the picture shows: means of cells of the fixed factors, and of each random level over them."""

    def __init__(
        self, outcome: str, factors: list[tuple[str, tuple[str, ...], Any]], units: list[tuple[str, Any, int]], y: Array
    ) -> None:
        self.outcome, self.factors, self.units, self.y = outcome, factors, units, y

    @classmethod
    def of(cls, fit: Fit, sources: list[Source], y: Array) -> _Picture:
        factors = [(m.column, m.levels, m.codes) for _, m in fit.design.categories()]
        units = [(s.name, s.codes, s.cells) for s in sources if s.kind == "random"]
        return cls(fit.design.outcome, factors, units, y)
