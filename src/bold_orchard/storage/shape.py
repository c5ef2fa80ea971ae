"""Whether a document read from a file has the keys and kinds that those who use it rely on."""

from __future__ import annotations

from typing import Any

NUMBER = (int, float)
FIGURE = (int, float, type(None))
Shape = Any

FIT: Shape = {
    "schema": str,
    "name": str,
    "model": str,
    "outcome": str,
    "family": str,
    "link": str,
    "method": str,
    "rows": {"read": int, "used": int, "dropped": [{"column": str, "rows": int}], "filled": [dict]},
    "groups": [{"group": str, "levels": int, "smallest": int, "median": FIGURE, "largest": int}],
    "fixed": [{"term": str, "label": str, "estimate": FIGURE, "se": FIGURE, "df": FIGURE, "statistic": FIGURE, "p": FIGURE,
               "ci": (list, type(None)), "ratio?": FIGURE, "ratio_ci?": (list, type(None))}],
    "reading?": {"pieces": int, "rows": int, "engine": str, "workers": int},
    "fixed_covariance": [[FIGURE]],
    "random": [{"group": str, "structure": str, "terms": [str], "covariance": [[FIGURE]], "correlation": [[FIGURE]],
                "sd": [FIGURE]}],
    "residual": (dict, type(None)),
    "fit": {"loglik": FIGURE, "deviance": FIGURE, "aic": FIGURE, "bic": FIGURE, "n_parameters": int},
    "convergence": {"converged": bool, "boundary": bool, "boundary_terms": [str], "iterations": int, "evaluations": int,
                    "gradient": FIGURE},
    "notes": [str],
    "warnings?": [str],
    "levels?": [str],
    "points?": int,
    "ratio_kind?": str,
    "average_effects?": [{"term": str, "unit_specific": FIGURE, "population": FIGURE}],
    "df_method": str,
    "confidence": NUMBER,
    "intercept_at": [str],
    "transformations": [{"term": str, "meaning": str}],
    "mean_random_variance": [FIGURE],
    "mean_residual_variance?": FIGURE,
    "icc?": [{"group": str, "value": FIGURE, "share": FIGURE, "outcome?": str}],
    "r2?": {"marginal": FIGURE, "conditional": FIGURE},
    "saved": {
        "data": str,
        "data_absolute": (str, type(None)),
        "fingerprint": str,
        "missing": [str],
        "where": (str, type(None)),
        "settings": {"method": str, "df": str, "confidence": NUMBER, "tolerance": NUMBER, "max_steps": int, "points": (int, str)},
        "options": {"baselines": dict, "fill_mean": [str], "weights": (str, type(None)), "family": (str, type(None)),
                    "force": bool, "link?": (str, type(None)), "success?": (str, type(None)), "grades?": [str]},
        "theta": [NUMBER],
        "hessian": (list, type(None)),
        "memory": dict,
    },
}  # fmt: skip

RESIDUAL: Shape = {
    "rho?": FIGURE,
    "occasions?": [str],
    "covariance?": [[FIGURE]],
    "correlation?": [[FIGURE]],
    "spread?": [{"term": str, "label": str, "estimate": FIGURE, "se": FIGURE}],
}

POSTERIOR: Shape = {
    "schema": str,
    "fit": str,
    "model": str,
    "outcome": str,
    "parameters": [{"parameter": str, "kind": str, "mean": FIGURE, "sd": FIGURE, "median": FIGURE, "low": FIGURE, "high": FIGURE,
                    "effective_bulk": FIGURE, "effective_tail": FIGURE, "r_hat": FIGURE, "likelihood_estimate": FIGURE}],
    "priors": [{"parameter": str, "law": str, "default": bool}],
    "chains": int,
    "warmup": int,
    "draws": int,
    "divergent": int,
    "acceptance": [FIGURE],
    "energy_fraction": [FIGURE],
    "leave_one_out": (dict, type(None)),
    "replicates": [{"statistic": str, "observed": FIGURE, "mean": FIGURE, "low": FIGURE, "high": FIGURE, "p": FIGURE}],
    "converged": bool,
    "confidence": NUMBER,
    "seed": int,
    "groups": [{"group": str, "terms": [str], "rows": [{"level": str, "effects": dict, "sd": dict, "ci": dict}]}],
    "notes": [str],
    "prior_only?": bool,
    "shares?": [{"quantity": str, "mean": FIGURE, "sd": FIGURE, "median": FIGURE, "low": FIGURE, "high": FIGURE, "likelihood_estimate": FIGURE}],
    "compared?": [{"posterior": str, "model": str, "elpd_difference": FIGURE, "se": FIGURE, "doubtful_rows": [int]}],
}  # fmt: skip
LEFT_OUT: Shape = {
    "expected_log_density": FIGURE,
    "se": FIGURE,
    "effective_parameters": FIGURE,
    "doubtful_rows": [int],
    "by_row?": [FIGURE],
}


def fault(document: Any, shape: Shape, where: str = "") -> str | None:
    """Where a document departs from a shape, or None: a type, a tuple of types, {key: shape}, or [shape of each entry].

    A key that ends in a question mark may be absent.
    """
    if isinstance(shape, dict):
        if not isinstance(document, dict):
            return where or "the whole"
        for name, inner in shape.items():
            key = name.removesuffix("?")
            if key != name and key not in document:
                continue
            place = f"{where}.{key}" if where else key
            found = place if key not in document else fault(document[key], inner, place)
            if found:
                return found
        return None
    if isinstance(shape, list):
        if not isinstance(document, list):
            return where
        return next(
            (found for i, entry in enumerate(document) if (found := fault(entry, shape[0], f"{where}[{i}]"))), None
        )
    wrong_flag = isinstance(document, bool) and shape in (int, NUMBER, FIGURE)
    return where if wrong_flag or not isinstance(document, shape) else None
