"""Intervals for everything: Wald, profile likelihood, parametric bootstrap."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.inference.distributions import quantile_t
from bold_orchard.inference.fit import Fit, by_ml
from bold_orchard.inference.intervals.bootstrap import bootstrap_intervals
from bold_orchard.inference.intervals.profile import Line, Surface, fixed_line, follow, quantity_line, surface_of
from bold_orchard.inference.intervals.rows import fixed_places, ordered, quantity_row, row_of
from bold_orchard.inference.summary import number
from bold_orchard.inference.variances.quantities import Quantity, fixed_quantities, quantities
from bold_orchard.progress import Progress, silent
from bold_orchard.results.intervals import IntervalsResult

Array = NDArray[Any]
SCHEMA = "bold-orchard/intervals/1"
METHODS = ("wald", "profile", "bootstrap")
FEW = 20  # levels of a unit below which likelihoods of fixed effects are too sure of themselves
BETTER = 1e-4  # fall of the deviance below its minimum that is no rounding: the search had stopped short


def intervals(
    fit: Fit, method: str = "profile", confidence: float = 0.95, points: int = 0, samples: int = 1000, seed: int = 0,
    force: bool = False, progress: Progress | None = None,
) -> IntervalsResult:  # fmt: skip
    """The document of ``orchard intervals``.

    ``points`` asks for that many more points of each profile, for a picture. Raises OrchardError for a fit that did not
    converge (unless ``force``).
    """
    if method not in METHODS:
        raise UsageError(f"the method is {', '.join(METHODS)}, not '{method}'")
    if not fit.converged and not force:
        raise OrchardError(f"the fit '{fit.name}' did not converge, so its intervals mean nothing; mend it, or --force")
    report = progress or silent
    notes: list[str] = []
    if method == "wald":
        rows = [*_wald_fixed(fit, confidence), *_wald(fit, confidence)]
    elif method == "profile":
        fit.needs_factor("a profile", "use --method wald, or --method bootstrap")
        rows = _profiled(fit, confidence, points, report, notes)
    else:
        rows = bootstrap_intervals(fit, confidence, samples, seed, report, notes)
    document: dict[str, Any] = {
        "schema": SCHEMA,
        "name": fit.name,
        "model": fit.result["model"],
        "outcome": fit.result["outcome"],
        "method": method,
        "criterion": fit.result["method"],
        "confidence": confidence,
        "parameters": rows,
        "notes": notes,
    }
    return IntervalsResult.from_dict(document)


def _wald_fixed(fit: Fit, confidence: float) -> list[dict[str, Any]]:
    rows = []
    for parameter, entry in zip(fit.catalogue.fixed, fit.result.coefficient_rows):
        low = high = None
        if entry["se"] is not None:
            width = quantile_t(confidence, entry["df"]) * entry["se"]
            low, high = entry["estimate"] - width, entry["estimate"] + width
        rows.append(row_of(parameter, entry["estimate"], low, high))
    return rows


def _wald(fit: Fit, confidence: float) -> list[dict[str, Any]]:
    """SDs on the log scale, correlations on Fisher's z, residual parameters on the search's own scale."""
    e, z = fit.evaluation, quantile_t(confidence, None)
    psi, covariance = e.psi, fit.known.model_parameter_covariance
    return [quantity_row(q, psi, *wald_ends(q, psi, covariance, z)) for q in quantities(fit)]


def wald_ends(q: Quantity, psi: Array, covariance: Array, z: float) -> tuple[float | None, float | None]:
    """The limits of one quantity; at an edge of the model the edge itself, and nothing where no spread is known."""
    t = q.at(psi)
    for edge, end in zip((q.low, q.high), q.ends):
        if np.isfinite(edge) and abs(t - edge) <= q.slack:
            other = -end if q.parameter.kind == "correlation" else None
            return (end, other) if edge == q.low else (other, end)
    a = q.slope(psi)
    se = float(np.sqrt(max(float(a @ covariance @ a), 0.0)))
    if q.parameter.kind == "sd":
        factor = float(np.exp(min(z * se / t, 300.0)))
        return t / factor, t * factor
    if q.parameter.kind == "correlation":
        r = q.back(t)
        middle, width = np.arctanh(r), z * se / np.sqrt(1.0 - r**2)
        return float(np.tanh(middle - width)), float(np.tanh(middle + width))
    return q.back(max(t - z * se, q.low)), q.back(min(t + z * se, q.high))


def _profiled(fit: Fit, confidence: float, points: int, report: Progress, notes: list[str]) -> list[dict[str, Any]]:
    if not fit.criterion.profiled:
        return _all_profiled(fit, confidence, points, report, notes)
    columns, followed = fixed_places(fit), quantities(fit)
    ml = fit if fit.result["method"] == "ML" else by_ml(fit, "ml")
    surface, rows, lowest, total = Surface(ml.evaluation), [], 0.0, len(columns) + len(followed)
    for done, (parameter, place) in enumerate(columns):
        report(done, total)
        row = row_of(parameter, fit.result.coefficient_rows[done]["estimate"])
        if place is not None:
            lowest = min(
                lowest, _follow(fixed_line(ml.evaluation, place, surface), None, _target(confidence), points, row)
            )
        rows.append(row)
    if fit.result["method"] == "REML":
        notes.append("Profiles of the fixed effects follow the ML deviance, those of the other parameters REML.")
    few = [u for u in fit.design.groups if u.size < FEW]
    if few and columns:
        which = " and ".join(f"{u.name} has {u.size} levels" for u in few)
        notes.append(
            f"{which[0].upper()}{which[1:]}: with so few, profiles of fixed effects that differ between levels are too short (of 95% intervals "
            "with ten levels 86 to 91% held); --method wald takes the degrees of freedom of the fit."
        )
    _warn(rows, lowest, notes)
    return rows + profiled_quantities(
        fit, followed, confidence, lambda done, _: report(len(columns) + done, total), notes, points
    )


def _all_profiled(fit: Fit, confidence: float, points: int, report: Progress, notes: list[str]) -> list[dict[str, Any]]:
    """A generalized fit: every parameter along the one likelihood."""
    found = profiled_quantities(fit, [*fixed_quantities(fit), *quantities(fit)], confidence, report, notes, points)
    made = {r["parameter"]: r for r in found}
    fixed = [made.pop(p.label) if p.label in made else row_of(p) for p in fit.catalogue.fixed]
    return [*fixed, *made.values()]


def _target(confidence: float) -> float:
    return float(np.sqrt(special.chdtri(1, 1.0 - confidence)))


def profiled_quantities(
    fit: Fit, followed: list[Quantity], confidence: float, progress: Progress | None, notes: list[str], points: int = 0
) -> list[dict[str, Any]]:
    """Profile intervals of variance parameters, by the criterion of the fit."""
    surface = surface_of(fit.model)
    rows: list[dict[str, Any]] = []
    lowest = 0.0
    for done, q in enumerate(followed):
        if progress is not None:
            progress(done, len(followed))
        row = quantity_row(q, surface.centre, None, None)
        if q.exists(surface.centre):
            lowest = min(lowest, _follow(quantity_line(surface, q), q, _target(confidence), points, row))
        rows.append(row)
    _warn(rows, lowest, notes)
    return rows


def _warn(rows: list[dict[str, Any]], lowest: float, notes: list[str]) -> None:
    if lowest < -BETTER:
        notes.append(
            f"A profile met a deviance {-lowest:.3g} below that of the fit: its search ended at a lesser optimum. Fit again "
            "with another order of terms, or a simpler each clause."
        )
    lost = [r["parameter"] for r in rows if r["estimate"] is not None and (r["low"] is None or r["high"] is None)]
    if lost:
        notes.append(f"The profile of {', '.join(lost)} could not be followed to its end; use --method bootstrap.")


def _follow(line: Line, q: Quantity | None, target: float, points: int, row: dict[str, Any]) -> float:
    """Fill in one row; returns the lowest deviance met, less the fit's."""
    made = follow(line, target, points)
    back = q.back if q is not None else float
    ends = []
    for t, edge, value in zip((made.low, made.high), (line.low, line.high), q.ends if q is not None else (0.0, 0.0)):
        ends.append(None if t is None else value if t == edge else back(t))
    row["low"], row["high"] = (None if v is None else number(v) for v in ordered(*ends))
    if points:
        row["profile"] = [[back(t), root] for t, root in made.trace]
    return made.lowest
