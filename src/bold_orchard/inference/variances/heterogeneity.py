"""How far studies differ beyond their known errors: I squared, and Cochran's Q."""

from __future__ import annotations

import numpy as np
from scipy.special import chdtrc

from bold_orchard.inference.fit import Fit
from bold_orchard.inference.variances.averages import mean_effect_variance
from bold_orchard.results.components import Heterogeneity


def heterogeneity(fit: Fit) -> list[Heterogeneity]:
    """Of every unit of a fit whose errors are known its share of the variance (I squared), and Q of them all.

    I squared is a unit's variance over the sum of all units' and the typical error variance s^2 = (n - 1) sum(w) / (sum(w)^2 - sum(w^2)),
    w = 1 / SE^2 (Higgins & Thompson 2002, equation 9). Q is the weighted sum of squares about the fixed part without units, referred to
    chi-squared on the rows less the rank of X (Cochran 1954).
    """
    design = fit.design
    w = np.asarray(design.weights)
    n, total = len(w), float(w.sum())
    typical = (n - 1) * total / (total**2 - float(w @ w)) if n > 1 else float("nan")
    found = [(design.units[c.unit], mean_effect_variance(fit.model, c)) for c in design.clauses]
    parts = [(unit, part) for unit, part in found if not unit.curve]
    x = np.column_stack([np.zeros((n, 0)), *(design.fixed.values[k] for k in fit.model.kept)])
    root = np.sqrt(w)
    b = np.linalg.lstsq(x * root[:, None], design.y * root, rcond=None)[0]
    q, df = float(w @ (design.y - x @ b) ** 2), n - x.shape[1]
    out = []
    between = sum(part for _, part in parts)
    for unit in design.groups:
        own = sum(part for other, part in parts if other is unit)
        out.append(Heterogeneity(unit.name, own / (between + typical), q, df, float(chdtrc(df, q)) if df else None))
    return out
