"""Where the parameters of a gaussian posterior stand, and how coordinates turn into the parameters as they are reported."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.estimation.arrays import row_order
from bold_orchard.estimation.gaussian import GaussianModel
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.summary import residual_variance
from bold_orchard.inference.variances.quantities import own_places
from bold_orchard.own_parameter import OwnParameter
from bold_orchard.parameters.parameter import Parameter
from bold_orchard.sampling.covariances import consecutive, reported
from bold_orchard.sampling.priors import Priors
from bold_orchard.sampling.scales import found

Array = NDArray[Any]


class GaussianLayout:
    """Coordinates: those of every clause's covariance, of the residual, alpha, then coefficients that cannot be integrated out.

    ``values`` gives the figures of the parameters as they are reported.
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
        """Where log SD of the residual stands; of occasions it is among their own, and errors that are known have none."""
        return None if self.priors.residual is not None or self.c.known else self.alpha.stop

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
            phi[:inner], turn[:inner, self.rows], value, slope[self.rows] = self._own_of_rows(z[self.rows])
        if self.n_spread:
            assert self.design.residual.spread is not None
            for k, (parameter, values) in enumerate(zip(self.fit.catalogue.spread, self.design.residual.spread.values)):
                at, sd = self.spread.start + k, float(values.std())
                phi[inner + k], turn[inner + k, at] = z[at] * sd, sd
                more, slope[at] = self.priors.own[parameter].density(float(z[at]))
                value += more
        if self.sd_at is None:
            return phi, 0.0, turn, change, value, slope
        assert self.fit.catalogue.residual_sd is not None
        sd = float(np.exp(z[self.sd_at]))
        more, d = self.priors.own[self.fit.catalogue.residual_sd].density(sd)
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

    def phi_of(self, z: Array) -> Array:
        """phi of the structure at its coordinates: one that is not negative moves by its logarithm."""
        return np.where(self.walled[: len(z)], np.exp(np.minimum(z, 700.0)), z)

    @property
    def walled(self) -> NDArray[np.bool_]:
        """Entries of phi that are not negative, (n_phi,)."""
        return np.asarray(self.c.nonnegative[self.c.phi])

    def back(self, own: OwnParameter, z: Array) -> Callable[[float], float]:
        """The value of a parameter of the structure as a function of its own coordinate, the others staying."""
        along = own.along(self.phi_of(z))
        if not self.walled[own.place]:
            return along
        return lambda x: along(float(np.exp(min(x, 700.0))))

    def _own_of_rows(self, z: Array) -> tuple[Array, Array, float, Array]:
        """phi of the structure, its slope, the log prior of what is reported of it, and the gradient of that."""
        assert self.c.correlated is not None
        phi, walled, n = self.phi_of(z), self.walled[: len(z)], len(z)
        turn = np.where(walled, phi, 1.0)
        values, slopes, jacobian, bend = self.c.correlated.rows.reported(np.append(phi, np.zeros(self.n_spread)))
        made = [self.priors.own[p].density(float(v)) for (p, _, _), v in zip(self.own_of_rows, values)]
        moved = walled & np.isin(np.arange(n), [own.place for _, own, _ in self.own_of_rows])
        density = sum(v for v, _ in made) + jacobian + float(z[moved].sum())
        slope = (np.array([d for _, d in made]) @ slopes[:, :n] + bend[:n]) * turn + moved
        return phi, np.diag(turn), density, slope

    @cached_property
    def own_of_rows(self) -> list[tuple[Parameter, OwnParameter, int]]:
        """Parameters of the residual structure, each with its place in psi."""
        return own_places(self.fit)

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

    def working_alpha(self, alpha: Array) -> tuple[Array, Array]:
        """The criterion's own alpha, in SDs of the columns, and its slope."""
        if self.c.vary is None:
            return np.zeros(0), np.zeros(0)
        sd = np.concatenate([p.sd for p in self.c.vary.parts])
        return alpha * sd, sd

    def values(self, z: Array) -> Array:
        """Of every parameter beside the coefficients at a position, in the order of ``priors.parameters``."""
        out: list[float] = []
        for covariance, at in zip(self.priors.covariances, self.places):
            out += reported(covariance, z[at])
        if self.priors.residual is not None:
            out += reported(self.priors.residual, z[self.rows])
        phi = self.phi_of(z[self.rows]) if self.own_of_rows else z[:0]
        own = [own.at(phi) for _, own, _ in self.own_of_rows]
        sd = [] if self.sd_at is None else [float(np.exp(z[self.sd_at]))]
        return np.array([*out, *z[self.alpha], *own, *z[self.spread], *sd])

    def place(self, z: Array, parameter: Parameter, value: float) -> None:
        """Put the coordinate of a parameter of the residual, or of what SDs vary with, where it has the value."""
        if parameter == self.fit.catalogue.residual_sd:
            z[self.sd_at] = np.log(max(value, 1e-300))
        elif parameter.kind == "vary":
            z[self.alpha.start + self.varied.index(parameter)] = value
        elif parameter.kind == "spread":
            z[self.spread.start + parameter.places[0]] = value
        else:
            own = next(own for p, own, _ in self.own_of_rows if p == parameter)
            z[self.rows.start + own.place] = found(self.back(own, z[self.rows]), value)

    @property
    def varied(self) -> list[Parameter]:
        """Coefficients of what SDs of units' effects vary with."""
        return [p for own in self.fit.catalogue.clauses for p in own.vary]

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
