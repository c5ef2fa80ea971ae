"""Covariance of the residuals among rows, by the entries of its inverse.

Rows stand sorted by unit and time, so that the inverse of R / sigma^2 has a few bands: entry (i, i - o) for each
offset o. Entries fall into classes that share one value; ``classes[o]`` (n,) names the class of each row, -1 where
the band has no entry. Parameters phi are free (or not negative where ``bounded``).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from bold_orchard.own_parameter import OwnParameter

Array = NDArray[Any]
EDGE = 16.0  # phi at which a correlation is as good as at its edge
NEAREST = 1e-10  # to its edge that a correlation comes, so that the covariance keeps an inverse with digits


@dataclass(frozen=True)
class Bands:
    """Values of all entries: per offset ``values`` (classes,) and ``slopes`` (n_phi, classes); log|R| likewise.

    ``totals`` (classes,) are weights of the products of each unit's totals, where a structure uses them.
    """

    values: list[Array]
    slopes: list[Array]
    log_det: float
    log_det_slope: Array
    totals: Array | None = None
    totals_slopes: Array | None = None


@dataclass(frozen=True)
class Layout:
    """The rows as a structure sees them, sorted by unit and time: ``starts`` of the units, the unit's name for words.

    ``time`` (n,), or (n, d) of several columns, is what the structure ``takes``: numbers, or codes of occasions with their ``labels``; ``spread`` tells
    that a spread will stand on top.
    """

    n: int
    starts: NDArray[np.intp]
    unit: str
    time: Array | None = None
    labels: tuple[str, ...] = ()
    spread: bool = False


class RowCovariance:
    """The contract: ``classes`` and ``sizes`` per offset, ``bounded`` (n_phi,), ``start`` (n_phi,), ``at(phi)``.

    ``takes`` says what column the structure wants: 'time', 'occasions', 'places' (one or more) or None. ``one_variance`` is False where occasions have
    variances of their own; ``one_correlation`` where any two rows of a unit are equally alike, by the first of its own parameters.
    ``own_names`` are the names of ``own``, the parameters that are reported beside the variance, in the order of phi.
    """

    name: ClassVar[str] = "independent"
    takes: ClassVar[str | None] = None
    own_names: ClassVar[tuple[str, ...]] = ()
    one_variance: bool = True
    one_correlation: bool = False
    classes: list[Array]
    sizes: list[int]
    bounded: Array
    start: Array
    unit_starts: Array | None = None
    unit_classes: Array | None = None
    unit_size: int = 0

    @classmethod
    def over(cls, rows: Layout) -> RowCovariance:
        """The structure over sorted rows. Raises OrchardError for rows it cannot serve."""
        raise NotImplementedError

    @classmethod
    def own_names_at(cls, labels: tuple[str, ...]) -> tuple[str, ...]:
        """The names of ``own``, which may depend on the occasions."""
        return cls.own_names

    def at(self, phi: Array) -> Bands:
        raise NotImplementedError

    def lost(self, phi: Array) -> NDArray[np.bool_]:
        """Parameters (n_phi,) that have run to an edge of the structure, where nothing depends on them any more."""
        return np.zeros(len(phi), dtype=bool)

    def edges(self, phi: Array) -> list[Array]:
        """phi with each of the parameters put at an edge near by; nothing where no edge is near."""
        return []

    def variance(self, phi: Array, sigma2: float) -> float:
        """The residual variance that is reported: the mean one where occasions have their own."""
        return sigma2

    def covariance_of_labels(self, phi: Array, sigma2: float) -> Array:
        """Covariance (k, k) of what has variances of its own: the occasions, the levels, the occasions of every level; else the one variance."""
        return np.array([[self.variance(phi, sigma2)]])

    @property
    def own(self) -> tuple[OwnParameter, ...]:
        """Parameters that are reported, each a function of one entry of phi, or of those up to it."""
        return ()

    def dense(self, phi: Array) -> Array:
        """R / sigma^2, (n, n)."""
        coloured = self.colour(phi, np.eye(len(self.classes[0])))
        return np.asarray(coloured @ coloured.T)

    def colour(self, phi: Array, white: Array) -> Array:
        """Independent normal values (n,) -> values with covariance R / sigma^2, by the factor of the banded inverse."""
        from scipy.linalg import cholesky_banded, solve_banded

        return np.asarray(solve_banded((0, len(self.classes) - 1), cholesky_banded(self._upper(phi)), white))

    def whiten(self, phi: Array, values: Array) -> Array:
        """The way back from ``colour``: residuals (n,) over sigma -> independent ones of variance 1."""
        from scipy.linalg import cholesky_banded

        factor = cholesky_banded(self._upper(phi))
        out, widest = factor[-1] * values, len(factor) - 1
        for offset in range(1, widest + 1):
            out[:-offset] += factor[widest - offset, offset:] * values[offset:]
        return np.asarray(out)

    def scale(self, phi: Array) -> Array | float:
        """SD of each row over sigma, (n,) or one for all."""
        return 1.0

    def _upper(self, phi: Array) -> Array:
        """R^-1 sigma^2 in the banded form of the library, (bands, n)."""
        bands = self.at(phi)
        widest = len(self.classes) - 1
        upper = np.zeros((widest + 1, len(self.classes[0])))
        for offset, (classes, values) in enumerate(zip(self.classes, bands.values)):
            have = classes >= 0
            upper[widest - offset, have] = values[classes[have]]
        return upper

    @classmethod
    def formula(cls, own: tuple[str, ...], places: tuple[tuple[str, str], ...]) -> str:
        """The correlation of two residuals of a unit in LaTeX, from the symbols or figures of ``own`` and the two rows' places."""
        return f"\\operatorname{{{cls.name}}}({', '.join(own)})"

    def reported(self, phi: Array) -> tuple[Array, Array, float, Array]:
        """Values of ``own`` (m,), their slopes (m, n_phi), the logarithm of the Jacobian and its slope (n_phi,)."""
        h, wide, n = 1e-5, 1e-3, len(phi)
        values, slopes, jacobian, bend = np.zeros(len(self.own)), np.zeros((len(self.own), n)), 0.0, np.zeros(n)

        def slope(own: OwnParameter, x: float) -> float:
            return (own.back(x + h) - own.back(x - h)) / (2 * h)

        for i, own in enumerate(self.own):
            x = float(phi[own.place])
            values[i], slopes[i, own.place] = own.back(x), slope(own, x)
            logs = [np.log(abs(slope(own, x + step)) + 1e-300) for step in (-wide, 0.0, wide)]
            jacobian += float(logs[1])
            bend[own.place] += (logs[2] - logs[0]) / (2 * wide)
        return values, slopes, jacobian, bend

    def parameters(self, phi: Array, sigma2: float) -> dict[str, Any]:
        """What the document reports under ``residual.parameters``."""
        return {own.name: own.at(phi) for own in self.own}
