"""What the first model says of its effects when its variances, too, are known with error.

A variance estimated with standard error se behaves like a scaled chi-squared on v = 2 (estimate / se)^2 degrees of freedom (Satterthwaite
1946); under a uniform prior its draws are estimate * v / chi2(v - 2), whose inverse has the mean that makes a slope on the effects
unbiased. Given the drawn variances the effects are normal again.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.carrying.effects import Carried, law_at
from bold_orchard.design.design import Clause
from bold_orchard.errors import OrchardError
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.variances.components import components

Array = NDArray[np.float64]
FEWEST = 4.0  # degrees of freedom of a draw: with fewer its inverse has no variance
DOUBTFUL = 12.0  # degrees of freedom of a variance below which its scaled chi-squared law is a rough one
SCALED = ("identity", "exchangeable")  # structures whose SDs move together


class FirstModel:
    """The first fit, with draws of its variances."""

    def __init__(self, fit: Fit, carried: list[Carried]) -> None:
        self.fit, self.carried = fit, carried
        self.df, self.residual_df = _degrees(fit)
        for c in carried:
            for term in c.terms:
                if (c.unit, term) not in self.df:
                    raise OrchardError(
                        f"the variance of {term} between levels of {c.unit} is zero in '{fit.name}': its rows show no such effect to carry on"
                    )

    @property
    def doubtful(self) -> list[str]:
        """Carried effects whose variance has few degrees of freedom."""
        told = [(c.unit, t) for c in self.carried for t in c.terms]
        return [f"{t} of {u}" for u, t in told if self.df[u, t] < DOUBTFUL]

    def drawn(self, rng: np.random.Generator) -> list[Carried]:
        """The effects' means and covariances at variances drawn anew."""
        point = self._point(rng)
        out = []
        for c in self.carried:
            mean, covariance = law_at(point, c.places)
            out.append(c.with_law(mean[c.rows], covariance[c.rows]))
        return out

    def _point(self, rng: np.random.Generator) -> Any:
        """The first likelihood's point at drawn variances, its coefficients where they belong."""
        e, c = self.fit.evaluation, self.fit.criterion
        gaussian = isinstance(self.fit.model, GaussianModel)
        old = float(e.sigma2) if gaussian else 1.0
        sigma2 = old * _factor(self.residual_df, rng) if gaussian else 1.0
        covariances = []
        for f, structure in enumerate(c.structures):
            scale = np.ones(structure.size)
            for clause in (x for x in self.fit.design.clauses if x.block == f):
                scale[clause.columns] = self._scales(clause, rng)
            covariances.append(scale[:, None] * e.covariance(f) * scale)
        return placed(self.fit, e.theta, covariances, sigma2)

    def _scales(self, clause: Clause, rng: np.random.Generator) -> Array:
        unit = self.fit.design.units[clause.unit].name
        dfs = [self.df.get((unit, t)) for t in clause.part.names]
        if clause.structure.kind in SCALED:
            known = [d for d in dfs if d is not None]
            return np.full(len(dfs), np.sqrt(_factor(min(known), rng)) if known else 1.0)
        return np.array([1.0 if d is None else np.sqrt(_factor(d, rng)) for d in dfs])


def placed(fit: Fit, theta: Array, covariances: list[Array], sigma2: float) -> Any:
    """The likelihood's point at ``theta`` but for the ``covariances`` of the effects of every block, where SDs vary those at zero."""
    e, c, theta = fit.evaluation, fit.criterion, theta.copy()
    gaussian = isinstance(fit.model, GaussianModel)
    for f, (structure, at) in enumerate(zip(c.structures, c.slices)):
        grown = c.grown(theta[c.alpha], f) if gaussian else np.ones(structure.size)
        to_work = c.products.z_to_work[f] * grown
        theta[at] = structure.of_covariance(to_work @ (covariances[f] / sigma2) @ to_work.T)
    if not gaussian:
        return c.at(theta, e)
    there = c.at(theta)
    return there.with_sigma2(sigma2) if c.concentrated else there


def _factor(df: float, rng: np.random.Generator) -> float:
    """v / chi2(v - 2)."""
    return float(df / rng.chisquare(max(df - 2.0, FEWEST)))


def _degrees(fit: Fit) -> tuple[dict[tuple[str, str], float], float]:
    """2 (estimate / se)^2 of every variance that is not zero, and of the residual's."""
    out: dict[tuple[str, str], float] = {}
    residual = 1e12
    for row in components(fit).document["components"]:
        if not row["estimate"] or not row["se"] or row["kind"] not in ("variance", "residual"):
            continue
        df = max(2.0 * (row["estimate"] / row["se"]) ** 2, FEWEST + 2.0)
        if row["kind"] == "residual":
            residual = df
        else:
            out[row["group"], row["term"]] = min(df, out.get((row["group"], row["term"]), df))
    return out, residual
