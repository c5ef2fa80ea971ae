"""What was drawn for the gaps beside what was observed, as numbers and for the picture."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.errors import OrchardError
from bold_orchard.imputing.gaps import Covariate
from bold_orchard.imputing.impute import Imputed
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.prediction.draw import SCHEMA
from bold_orchard.inference.summary import number
from bold_orchard.results.draw import DrawPicture, DrawResult

Array = NDArray[Any]


def imputed_values(fit: Fit, confidence: float, figure: str | None) -> DrawResult:
    """The answer of ``orchard draw --kind imputed``. Raises OrchardError for a fit without draws."""
    if not fit.imputations:
        raise OrchardError(f"'{fit.name}' drew nothing, so there are no draws to look at; fit with --impute 20")
    cells: Imputed = fit.cells  # type: ignore[attr-defined]
    rows, drawn = [], {}
    for one in cells.filled:
        c = one.covariate
        observed = c.x[~np.isnan(c.x)]
        drawn[c.column] = (observed, one.values) if c.categorical else (c.numbers(observed), c.numbers(one.values))
        rows.append(_row(c, *drawn[c.column]))
    document = {
        "schema": SCHEMA, "kind": "imputed", "names": [fit.name], "model": fit.result.model, "outcome": fit.result.outcome,
        "confidence": confidence, "figure": figure, "imputed": rows, "notes": list(fit.result.warnings),
    }  # fmt: skip
    return DrawResult.from_dict(document).with_keys(picture=DrawPicture(fit.design.outcome, drawn=drawn))


def _row(c: Covariate, observed: Array, drawn: Array) -> dict[str, Any]:
    """Counted by cells: rows, or levels of the unit in which the column is constant."""
    row: dict[str, Any] = {"column": c.column, "kind": c.latent.name, "observed": len(observed), "missing": len(c.gaps)}
    row |= dict.fromkeys(("observed_mean", "drawn_mean", "observed_sd", "drawn_sd"))
    row |= {"levels": [], "observed_shares": [], "drawn_shares": []}
    if c.categorical:
        size = len(c.levels)
        shares = (np.bincount(v.ravel().astype(int), minlength=size) / v.size for v in (observed, drawn))
        return row | dict(
            zip(
                ("levels", "observed_shares", "drawn_shares"),
                ([str(v) for v in c.levels], *(s.tolist() for s in shares)),
            )
        )
    for name, values in (("observed", observed), ("drawn", drawn)):
        row |= {f"{name}_mean": number(values.mean()), f"{name}_sd": number(values.std())}
    return row
