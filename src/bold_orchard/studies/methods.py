"""The methods paragraph of a paper, from the fits themselves."""

from __future__ import annotations

import platform
from collections.abc import Sequence
from typing import Any

from bold_orchard import __version__

DF = {
    "satterthwaite": "t and F tests with Satterthwaite's degrees of freedom",
    "kenward-roger": "t and F tests with Kenward and Roger's adjustment",
    "residual": "t and F tests with residual degrees of freedom",
    "normal": "tests and intervals from the normal distribution",
    "barnard-rubin": "tests with Barnard and Rubin's degrees of freedom",
}
HOW = {"REML": "restricted maximum likelihood", "ML": "maximum likelihood", "Laplace": "maximum likelihood with the Laplace approximation",
       "quadrature": "maximum likelihood with adaptive Gauss-Hermite quadrature"}  # fmt: skip


def methods_paragraph(models: Sequence[Any]) -> str:
    """Which models, how estimated and tested, on which rows, with which software."""
    import numpy as np
    import scipy

    words = []
    for key in dict.fromkeys(_key(m) for m in models):
        own = [m for m in models if _key(m) == key]
        family, link, method, df = key
        kind = (
            "Linear mixed-effects models"
            if (family, link) == ("gaussian", "identity")
            else f"Mixed-effects models with a {family} outcome and a {link} link"
        )
        words.append(
            f"{kind} ({', '.join(m.core.name for m in own)}) were fitted by {HOW.get(method, method)}; {DF.get(df, f'tests and intervals with cluster-robust standard errors ({df})')}."
        )
    words += (
        [_rows(m) for m in models[:1]]
        if len({_rows(m) for m in models}) == 1
        else [f"{m.core.name}: {_rows(m)}" for m in models]
    )
    if len(models) > 1 and any(m.result["method"] == "REML" for m in models):
        words.append("Models with different fixed parts were compared after refitting by maximum likelihood.")
    words.append(
        f"Computed with Bold Orchard {__version__} (Python {platform.python_version()}, NumPy {np.__version__}, SciPy {scipy.__version__})."
    )
    return " ".join(words)


def _key(m: Any) -> tuple[str, str, str, str]:
    d = m.result
    return d["family"], d["link"], d["method"], d["df_method"]


def _rows(m: Any) -> str:
    rows = m.result["rows"]
    out = f"{rows['used']:,} of {rows['read']:,} rows were used"
    if rows["dropped"]:
        out += " (" + ", ".join(f"{d['rows']:,} left out for a missing {d['column']}" for d in rows["dropped"]) + ")"
    if rows["filled"]:
        out += "; " + ", ".join(
            f"{f['rows']:,} gaps of {f['column']} were filled with its mean" for f in rows["filled"]
        )
    drawn = m.result.get("imputation")
    if drawn and drawn["columns"]:
        gaps = ", ".join(f"{c['missing']:,} of {c['column']}" for c in drawn["columns"])
        out += (
            f"; missing covariates ({gaps}) were drawn {drawn['draws']} times compatibly with the model (substantive-model-compatible fully "
            "conditional specification) and the fits pooled by Rubin's rules"
        )
    units = "; ".join(f"{g['levels']:,} levels of {g['group']}" for g in m.result["groups"])
    return out + (f", in {units}." if units else ".")
