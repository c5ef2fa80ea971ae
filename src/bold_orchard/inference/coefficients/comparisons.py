"""What is asked of means beside all their differences: against one level, letters, sizes in SDs, trends along the levels."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.errors import OrchardError, UsageError, nearest
from bold_orchard.inference.coefficients.multivariate_t import max_quantile, max_tail
from bold_orchard.inference.coefficients.precision import CoefficientInference
from bold_orchard.inference.distributions import p_of_t
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.summary import number

Array = NDArray[Any]
TRENDS = ("linear", "quadratic", "cubic", "quartic")


@dataclass(frozen=True)
class Comparisons:
    """``against`` is a level that all others are compared with, ``curve`` a number along which differences are told; the rest says what is added."""

    against: str | None = None
    letters: bool = False
    effect_sizes: bool = False
    trend: bool = False
    curve: str | None = None


def place_of(level: str, cells: Sequence[dict[str, Any]], labels: Sequence[str]) -> int:
    """The cell that a person means by a level, or by levels with commas; raises UsageError for none of them."""
    wanted = [t.strip() for t in level.split(",")]
    for i, (cell, text) in enumerate(zip(cells, labels)):
        own = [v if isinstance(v, str) else f"{v:g}" for v in cell.values()]
        if level.strip() == text or wanted == own:
            return i
    near = nearest(level, list(labels))
    hint = f"did you mean '{near}'?" if near else f"there are: {', '.join(labels)}"
    raise UsageError(f"--against: there is no level '{level}' of the term; {hint}")


def with_simultaneous(
    pairs: list[dict[str, Any]], known: CoefficientInference, rows: Array, base: int, confidence: float
) -> None:
    """p and intervals of the differences from one level together, by the multivariate t of their own correlation.

    There is one number of degrees of freedom, the smallest of the differences'.
    """
    if not pairs:
        return
    weights = np.array([rows[p["places"][0]] - rows[base] for p in pairs])
    covariance = weights @ known.covariance @ weights.T
    sd = np.sqrt(np.maximum(np.diag(covariance), 0.0))
    if not (sd > 0).all():
        raise OrchardError("a difference from the level has no error, so they cannot be judged together")
    correlation = covariance / np.outer(sd, sd)
    dfs = [p["df"] for p in pairs if p["df"] is not None]
    df = min(dfs) if dfs else None
    factor = max_quantile(confidence, correlation, df)
    for pair in pairs:
        width = factor * (pair["se"] or 0.0)
        pair |= {"p_adjusted": number(max_tail(abs(pair["statistic"]), correlation, df)), "df": df,
                 "p": number(p_of_t(pair["statistic"], df)), "ci": [pair["difference"] - width, pair["difference"] + width]}  # fmt: skip


def letters(means: Sequence[float | None], pairs: Sequence[dict[str, Any]], alpha: float) -> list[str]:
    """Letters of which two levels share one where they do not differ: insert and absorb (Piepho 2004), a for the largest mean."""
    known = [i for i, m in enumerate(means) if m is not None]
    columns: list[set[int]] = [set(known)]
    for pair in pairs:
        i, j = pair["places"]
        if pair["p_adjusted"] is None or pair["p_adjusted"] > alpha:
            continue
        for column in [c for c in columns if i in c and j in c]:
            columns.remove(column)
            for left_out in (i, j):
                made = column - {left_out}
                if not any(made <= other for other in columns):
                    columns = [c for c in columns if not c <= made] + [made]
    rank = {i: n for n, i in enumerate(sorted(known, key=lambda i: -float(means[i] or 0.0)))}
    ordered = sorted((c for c in columns if c), key=lambda c: sorted(rank[i] for i in c))
    return ["".join(_letter(n) for n, c in enumerate(ordered) if i in c) for i in range(len(means))]


def _letter(n: int) -> str:
    alphabet = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"
    return alphabet[n] if n < len(alphabet) else f"({n + 1})"


def add_effect_sizes(fit: Fit, pairs: list[dict[str, Any]]) -> None:
    """Each difference over the residual SD, and over the SD of a new observation of new units (None where slopes vary)."""
    if not fit.design.additive:
        raise UsageError("--effect-sizes divides by SDs of the outcome's own scale, so it is for gaussian fits")
    if fit.design.known_errors:
        raise UsageError(
            "--effect-sizes divides by the SD of a new observation, and errors that are known are of these rows only"
        )
    residual = float(fit.result["residual"]["sd"])
    plain = all(c.part.names == ("intercept",) and c.vary is None and c.given is None for c in fit.design.clauses)
    variances = [float(part["covariance"][0][0]) for part in fit.result["random"]] if plain else []
    total = float(np.sqrt(sum(variances) + residual**2)) if plain else None
    for pair in pairs:
        pair |= {"d_total": None if total is None else number(pair["difference"] / total),
                 "d_residual": number(pair["difference"] / residual) if residual > 0 else None}  # fmt: skip


def trends(
    known: CoefficientInference, cells: Sequence[dict[str, Any]], rows: Array, offset: Array, sure: NDArray[np.bool_]
) -> list[dict[str, Any]]:
    """Orthonormal polynomial contrasts over the levels, at their numbers where they are numbers and else at equal steps.

    Raises UsageError for a term of several factors, and for fewer than three levels with a mean.
    """
    if len(cells[0]) != 1:
        raise UsageError("--trend goes along the levels of one factor; name one")
    if sure.sum() < 3:
        raise UsageError("--trend needs three levels or more")
    levels, kept = [next(iter(c.values())) for c in cells], np.flatnonzero(sure)
    scores = _scores([levels[i] for i in kept])
    order = np.argsort(scores)
    basis = np.linalg.qr(np.vander((scores - scores.mean()) / np.ptp(scores), len(kept), increasing=True))[0]
    out = []
    for degree in range(1, len(kept)):
        weights = basis[:, degree] * np.sign(basis[order[-1], degree])
        row = weights @ rows[kept]
        estimate, se, df = float(row @ known.b + weights @ offset[kept]), known.se(row), known.df(row[None, :])
        t = estimate / se if se > 0 else np.nan
        name = TRENDS[degree - 1] if degree <= len(TRENDS) else f"degree {degree}"
        out.append({"trend": name, "estimate": number(estimate), "se": number(se), "df": df, "statistic": number(t),
                    "p": number(p_of_t(t, df)) if np.isfinite(t) else None})  # fmt: skip
    return out


def _scores(levels: Sequence[Any]) -> Array:
    try:
        made = np.array([float(v) for v in levels])
    except ValueError:
        return np.arange(len(levels), dtype=float)
    return (
        made if np.isfinite(made).all() and len(np.unique(made)) == len(made) else np.arange(len(levels), dtype=float)
    )


def all_pairs(n: int, base: int | None) -> list[tuple[int, int]]:
    """Pairs (i, j) of which i less j is told: the later less the earlier, or each less ``base``."""
    if base is not None:
        return [(i, base) for i in range(n) if i != base]
    return [(i, j) for j, i in itertools.combinations(range(n), 2)]
