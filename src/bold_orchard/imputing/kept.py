"""What is kept of a pooled fit: the draws of the missing cells, and where each completed table's search ended."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.table import Table
from bold_orchard.design.build import build_design
from bold_orchard.errors import OrchardError
from bold_orchard.estimation.estimate import hessian_of, reopen
from bold_orchard.imputing.fit import ImputedFit, pool
from bold_orchard.imputing.gaps import gaps_of
from bold_orchard.imputing.impute import Filled, Imputed, evenly_filled
from bold_orchard.inference.fit import Fit, Settings, of_model
from bold_orchard.optimize.protocol import Ending, OptimizeResult
from bold_orchard.sentence.tree import Sentence

Array = NDArray[Any]


def kept(fit: Fit) -> dict[str, Any]:
    """As plain lists: draws by column, and parameters by completed table."""
    assert isinstance(fit, ImputedFit)
    cells: Imputed = fit.cells
    ends = [f.model.found for f in fit.imputations]
    return {
        "draws": cells.asked.draws,
        "beside": list(cells.asked.beside),
        "seed": cells.asked.seed,
        "columns": [
            {"column": f.covariate.column, "values": f.values.tolist(), "mean_r_hat": _figure(f.mean_r_hat), "sd_r_hat": _figure(f.sd_r_hat)}
            for f in cells.filled
        ],
        "fits": [
            {
                "theta": f.evaluation.theta.tolist(),
                "points": f.model.points,
                "hessian": e.hessian.tolist() if np.isfinite(e.hessian).all() else None,
                "converged": bool(e.converged),
                "decrement": _figure(e.decrement),
                "iterations": e.iterations,
                "evaluations": e.evaluations,
            }
            for f, e in zip(fit.imputations, ends)
        ],
    }  # fmt: skip


def taken_up(name: str, sentence: Sentence, table: Table, settings: Settings, saved: dict[str, Any]) -> ImputedFit:
    """A pooled fit out of what was kept of it, without a search.

    Raises OrchardError where the gaps are not those that were filled.
    """
    assert settings.impute is not None
    gaps = gaps_of(sentence, table, settings.options, settings.impute.beside)
    first = build_design(sentence, evenly_filled(gaps).take(gaps.kept), settings.options)
    by_name, filled = {c.column: c for c in gaps.with_gaps}, []
    for column in saved["columns"]:
        c, values = by_name[column["column"]], np.asarray(column["values"], dtype=float)
        if values.shape != (settings.impute.draws, len(c.gaps)):
            raise OrchardError(f"the gaps of '{c.column}' are not those that '{name}' filled; fit again")
        r_hats = (np.nan if column[k] is None else float(column[k]) for k in ("mean_r_hat", "sd_r_hat"))
        filled.append(Filled(c, values, gaps.missing(c), *r_hats))
    cells = Imputed(gaps, first, tuple(filled), settings.impute)
    fits = []
    for i, end in enumerate(saved["fits"]):
        theta = np.asarray(end["theta"], dtype=float)
        ended: OptimizeResult[Any] = OptimizeResult(
            None, bool(end["converged"]), float(end["decrement"] or 0.0), hessian_of(end["hessian"], len(theta)),
            int(end["iterations"]), int(end["evaluations"]), Ending.WELL,
        )  # fmt: skip
        model = reopen(cells.design(i, settings.options), settings.search, theta, int(end["points"]), ended)
        fits.append(of_model(name, model, replace(settings, impute=None)))
    return pool(name, fits, cells, settings)


def _figure(x: float) -> float | None:
    return float(x) if np.isfinite(x) else None
