"""What the first model says of its effects at parameters drawn from its posterior."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.carrying.effects import Carried
from bold_orchard.carrying.first import FirstModel, placed
from bold_orchard.errors import OrchardError
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.estimation.random_spread import SpreadModel
from bold_orchard.inference.variances.quantities import own_places
from bold_orchard.sampling.answers.draws import Draws
from bold_orchard.sampling.scales import found

Array = NDArray[np.float64]


class FromPosterior(FirstModel):
    """The first fit, its parameters drawn from a posterior of it, all together: coefficients, covariances, the residual's own.

    Raises OrchardError for draws of another model, of chains that do not agree, and for residuals with a covariance of occasions.
    """

    def __init__(self, draws: Draws, carried: list[Carried]) -> None:
        self.fit, self.draws, self.carried = draws.fit, draws, carried
        if draws.warnings:
            raise OrchardError(f"{draws.source}: {draws.warnings[0]}")
        if self.fit.catalogue.occasions:
            raise OrchardError(
                "effects beside unstructured residuals are not carried on from a posterior; leave --posterior out"
            )
        _ = draws.b, draws.extra, draws.cuts
        self.covariances = [draws.covariance(clause) for clause in self.fit.design.clauses]

    def _point(self, rng: np.random.Generator) -> Any:
        d = int(rng.integers(self.draws.count))
        blocks = []
        for f, structure in enumerate(self.fit.criterion.structures):
            g = np.zeros((structure.size, structure.size))
            for clause, made in zip(self.fit.design.clauses, self.covariances):
                if clause.block == f:
                    g[clause.columns, clause.columns] = made[d]
            blocks.append(g)
        theta, sigma2 = self._gaussian(d) if isinstance(self.fit.model, GaussianModel) else (self._outer(d), 1.0)
        return placed(self.fit, theta, blocks, sigma2)

    def _gaussian(self, d: int) -> tuple[Array, float]:
        """phi and alpha of a draw, and the residual variance at the means of what it depends on."""
        c, design, draws = self.fit.criterion, self.fit.design, self.draws
        theta = self.fit.evaluation.theta.copy()
        assert draws.log_sd is not None
        log_sd, spread = float(draws.log_sd[d]), design.residual.spread
        if spread is not None:
            gamma = draws.gamma[d]
            log_sd += float(gamma @ [v.mean() for v in spread.values])
            theta[c.phi.stop - len(gamma) : c.phi.stop] = gamma * [v.std() for v in spread.values]
        for parameter, own, at in own_places(self.fit):
            theta[at] = found(own.along(theta[at - own.place :]), float(draws.of(parameter)[d]))
        if c.vary is not None:
            alpha = np.concatenate([draws.alpha(clause)[d] for clause in design.clauses if clause.vary is not None])
            theta[c.alpha] = alpha * np.concatenate([part.sd for part in c.vary.parts])
        return theta, float(np.exp(2.0 * log_sd))

    def _outer(self, d: int) -> Array:
        """All parameters of a draw but the covariances of the effects."""
        c, draws, model = self.fit.criterion, self.draws, self.fit.model
        theta, b = self.fit.evaluation.theta.copy(), draws.b[d]
        theta[: c.p] = c.products.standard.to_work @ b
        if isinstance(model, SpreadModel):
            assert draws.log_sd is not None
            gamma = draws.gamma[d]
            theta[c.phi] = gamma * c.rows.centres[:, 1]
            theta[-1] = 2.0 * (draws.log_sd[d] + gamma @ c.rows.centres[:, 0])
        elif self.fit.design.graded:
            means = np.array([self.fit.design.fixed.values[k].mean() for k in model.kept])
            cuts = draws.cuts[d] - means @ b
            theta[c.extra] = np.append(cuts[0], np.log(np.maximum(np.diff(cuts), 1e-12)))
        else:
            theta[c.extra] = draws.extra[d]
        return theta
