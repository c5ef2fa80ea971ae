"""Where the parameters of a gaussian posterior stand, and how coordinates turn into the parameters as they are reported."""

from __future__ import annotations

from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.estimation.arrays import row_order
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.summary import residual_variance
from bold_orchard.sampling.covariances import consecutive, reported
from bold_orchard.sampling.priors import Priors

Array = NDArray[Any]


class GaussianLayout:
    """Coordinates: those of every clause's covariance, of the residual, alpha, then coefficients that cannot be integrated out.

    ``names`` are the parameters as reported, of which ``values`` gives the figures.
    """

    def __init__(self, fit: Fit, priors: Priors) -> None:
        self.fit, self.priors = fit, priors
        model = fit.model
        assert isinstance(model, GaussianModel)
        self.model, self.design, self.c = model, fit.design, model.criterion
        self.e = model.evaluation
        normal = [law.normal for law in priors.fixed]
        self.free = [i for i, n in enumerate(normal) if n is None]
        self.closed = [i for i, n in enumerate(normal) if n is not None]
        self.precision = np.array([n[1] for n in normal if n is not None])
        self.prior_mean = np.array([n[0] for n in normal if n is not None]) - self.e.b[self.closed]
        self.to_work = self.c.products.standard.to_work

    # -- the layout of coordinates

    @cached_property
    def places(self) -> list[slice]:
        return consecutive(covariance.size for covariance in self.priors.covariances)

    @property
    def n_covariance(self) -> int:
        return self.places[-1].stop if self.places else 0

    @cached_property
    def rows(self) -> slice:
        """Coordinates of the residual: its occasions, or phi and the logarithm of the SD."""
        first = self.n_covariance
        size = self.priors.residual.size if self.priors.residual is not None else self.n_phi - self.n_spread
        return slice(first, first + size)

    @property
    def n_phi(self) -> int:
        return self.c.phi.stop - self.c.phi.start

    @cached_property
    def n_spread(self) -> int:
        return 0 if self.design.residual.spread is None else len(self.design.residual.spread.names)

    @cached_property
    def spread(self) -> slice:
        return slice(self.rows.stop, self.rows.stop + self.n_spread)

    @cached_property
    def alpha(self) -> slice:
        return slice(self.spread.stop, self.spread.stop + self.c.alpha.stop - self.c.alpha.start)

    @property
    def sd_at(self) -> int | None:
        """Where log SD of the residual stands; of occasions it is among their own."""
        return None if self.priors.residual is not None else self.alpha.stop

    @cached_property
    def coefficients(self) -> slice:
        first = self.alpha.stop + (0 if self.sd_at is None else 1)
        return slice(first, first + len(self.free))

    @property
    def size(self) -> int:
        return self.coefficients.stop

    # -- the residual

    def residual(self, z: Array) -> tuple[Array, float, Array, Array, float, Array]:
        """phi, log sigma^2, d phi / dz (n_phi, size), d log sigma^2 / dz (size,), log prior and its gradient (size,)."""
        turn, change, slope = np.zeros((self.n_phi, self.size)), np.zeros(self.size), np.zeros(self.size)
        phi, value = np.zeros(self.n_phi), 0.0
        if self.priors.residual is not None:
            return self._occasions(z, turn, change, slope)
        inner = self.n_phi - self.n_spread
        if inner:
            phi[:inner], turn[:inner, self.rows], value, slope[self.rows] = self._rho(z[self.rows])
        if self.n_spread:
            assert self.design.residual.spread is not None
            parts = zip(self.design.residual.spread.names, self.design.residual.spread.values)
            for k, (name, values) in enumerate(parts):
                at, sd = self.spread.start + k, float(values.std())
                phi[inner + k], turn[inner + k, at] = z[at] * sd, sd
                more, slope[at] = self.priors.own[f"spread {name}"].density(float(z[at]))
                value += more
        assert self.sd_at is not None
        sd = float(np.exp(z[self.sd_at]))
        more, d = self.priors.own["sd(residual)"].density(sd)
        value, slope[self.sd_at] = value + more + float(z[self.sd_at]), d * sd + 1.0
        log_sigma2 = 2.0 * float(z[self.sd_at])
        change[self.sd_at] = 2.0
        if self.n_spread:
            log_sigma2 -= self._log_ratio(phi)
            for k in range(self.n_phi):
                h = 1e-6 * np.eye(self.n_phi)[k]
                change -= (self._log_ratio(phi + h) - self._log_ratio(phi - h)) / 2e-6 * turn[k]
        return phi, log_sigma2, turn, change, value, slope

    def _log_ratio(self, phi: Array) -> float:
        return float(np.log(residual_variance(self.design, self.c, phi, 1.0)))

    def _rho(self, z: Array) -> tuple[Array, Array, float, Array]:
        """phi of a correlation of the residuals, with the law of rho as it is reported."""
        assert self.c.correlated is not None
        rows, walled = self.c.correlated.rows, bool(self.c.nonnegative[self.c.phi.start])

        def rho(x: float) -> float:
            phi = np.exp(x) if walled else x
            return float(rows.parameters(np.append(phi, np.zeros(self.n_spread)), 1.0)["rho"])

        x, h = float(z[0]), 1e-5
        here, up, down = rho(x), rho(x + h), rho(x - h)
        first = (up - down) / (2 * h)
        near = [(rho(x + s + h) - rho(x + s - h)) / (2 * h) for s in (1e-3, -1e-3)]
        value, slope = self.priors.own["rho"].density(here)
        tiny = 1e-300
        value += float(np.log(abs(first) + tiny))
        bend = (np.log(abs(near[0]) + tiny) - np.log(abs(near[1]) + tiny)) / 2e-3
        phi = np.exp(x) if walled else x
        return np.array([phi]), np.array([[phi if walled else 1.0]]), value, np.array([slope * first + bend])

    def _occasions(self, z: Array, turn: Array, change: Array, slope: Array) -> Any:
        """phi of free covariances of occasions: rows of L / L[0, 0], diagonals as logarithms."""
        covariance = self.priors.residual
        assert covariance is not None and self.c.correlated is not None
        low, changes, value, slope[self.rows] = covariance.at(z[self.rows])
        places: list[tuple[int, int]] = self.c.correlated.rows.places  # type: ignore[attr-defined]
        base = low[0, 0]
        phi = np.array([np.log(low[i, i] / base) if i == j else low[i, j] / base for i, j in places])
        d_base = changes[:, 0, 0] / base
        for m, (i, j) in enumerate(places):
            own = changes[:, i, j]
            turn[m, self.rows] = own / low[i, i] - d_base if i == j else (own - low[i, j] * d_base) / base
        change[self.rows] = 2.0 * d_base
        return phi, 2.0 * float(np.log(base)), turn, change, value, slope

    @cached_property
    def vary_names(self) -> list[str]:
        return [n for n in self.priors.own if n.startswith("vary(")]

    def working_alpha(self, alpha: Array) -> tuple[Array, Array]:
        """The criterion's own alpha, in SDs of the columns, and its slope."""
        if self.c.vary is None:
            return np.zeros(0), np.zeros(0)
        sd = np.concatenate([p.sd for p in self.c.vary.parts])
        return alpha * sd, sd

    @cached_property
    def names(self) -> list[str]:
        """Parameters beside the coefficients, as ``values`` gives them."""
        out: list[str] = []
        for covariance, clause in zip(self.priors.covariances, self.design.clauses):
            group, terms = self.design.label_of(clause), clause.part.names
            out += covariance.sds
            out += [f"correlation({group}: {terms[i]}, {terms[j]})" for i, j in covariance.pairs]
        residual = self.priors.residual
        if residual is not None:
            labels = self.design.residual.labels
            out += [*residual.sds, *(f"correlation(residual: {labels[i]}, {labels[j]})" for i, j in residual.pairs)]
        return [*out, *self.priors.own]

    def values(self, z: Array) -> Array:
        """Of every parameter in ``names`` at a position."""
        out: list[float] = []
        for covariance, at in zip(self.priors.covariances, self.places):
            out += reported(covariance, z[at])
        if self.priors.residual is not None:
            out += reported(self.priors.residual, z[self.rows])
        for k, name in enumerate(self.priors.own):
            out.append(self._own(name, z, k))
        return np.array(out)

    def _own(self, name: str, z: Array, k: int) -> float:
        if name == "rho":
            assert self.c.correlated is not None
            return float(self.c.correlated.rows.parameters(self.residual(z)[0], 1.0)["rho"])
        if name == "sd(residual)":
            return float(np.exp(z[self.sd_at]))
        if name.startswith("vary("):
            return float(z[self.alpha.start + self.vary_names.index(name)])
        spreads = [n for n in self.priors.own if n.startswith("spread ")]
        return float(z[self.spread.start + spreads.index(name)])

    def log_row_sd(self, z: Array) -> Array:
        """Logarithm of every row's residual SD in the design's order, (n,), correlations left out."""
        phi, log_sigma2 = self.residual(z)[:2]
        out = np.full(len(self.design.y), 0.5 * log_sigma2)
        if self.c.correlated is not None:
            order = row_order(self.design.residual)
            scale = np.log(self.c.correlated.rows.scale(phi)) + np.zeros(len(out))
            if order is None:
                out += scale
            else:
                out[order] += scale
        return out if self.design.weights is None else out - 0.5 * np.log(self.design.weights)
