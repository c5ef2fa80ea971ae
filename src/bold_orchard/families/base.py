"""What a family is: the log-density of an outcome given its linear predictor, and its derivatives.

All methods take ``eta`` of shape (..., n) and give arrays of that shape; the outcome stands in the last axis. ``extra`` holds the
family's own parameters on unbounded scales (the logarithm of a dispersion, the thresholds of grades).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


@dataclass(frozen=True)
class Data:
    """The outcome of n rows: ``y`` (n,), ``trials`` (n,) or None, prior ``weights`` (n,) or None, grades as codes."""

    y: Array
    trials: Array | None = None
    weights: Array | None = None

    def take(self, order: Array | slice) -> Data:
        return Data(*(None if v is None else v[order] for v in (self.y, self.trials, self.weights)))  # type: ignore[arg-type]


class Family:
    """The contract. ``derivatives`` gives l, l', l'' and l''' in eta; ``extras`` the slopes of l, l' and l'' in each extra."""

    name: ClassVar[str]
    links: ClassVar[tuple[str, ...]]
    intercept: ClassVar[bool] = True
    extra_names: tuple[str, ...] = ()

    def __init__(self, link: str, data: Data) -> None:
        self.link, self.data, self.y = link, data, data.y

    @property
    def n_extra(self) -> int:
        return len(self.extra_names)

    @property
    def weights(self) -> Array | float:
        return 1.0 if self.data.weights is None else self.data.weights

    def on(self, data: Data) -> Family:
        """The same family over other rows."""
        return type(self)(self.link, data)

    def start(self) -> tuple[Array, Array]:
        """A rough eta (n,) and extra (n_extra,)."""
        raise NotImplementedError

    def derivatives(self, eta: Array, extra: Array) -> tuple[Array, Array, Array, Array]:
        raise NotImplementedError

    def slopes(self, eta: Array, extra: Array) -> tuple[Array, Array]:
        """l' and l'' alone."""
        return self.derivatives(eta, extra)[1:3]

    def higher(self, eta: Array, extra: Array) -> tuple[Array, Array, Array]:
        """The three derivatives without l itself."""
        return self.derivatives(eta, extra)[1:]

    def value(self, eta: Array, extra: Array) -> Array:
        return self.derivatives(eta, extra)[0]

    def expected(self, eta: Array, extra: Array) -> Array:
        """A positive stand-in for -l'' where that may be negative."""
        return np.maximum(-self.derivatives(eta, extra)[2], 1e-12)

    def extras(self, eta: Array, extra: Array) -> list[tuple[Array, Array, Array]]:
        return []

    def mean(self, eta: Array) -> Array:
        """E[y | eta] (of a proportion for trials)."""
        raise NotImplementedError

    def mean_slope(self, eta: Array) -> Array:
        """d mean / d eta."""
        raise NotImplementedError

    def dispersion(self, extra: Array) -> float | None:
        """What the document reports as dispersion."""
        return None

    def variance(self, eta: Array, extra: Array) -> Array:
        """Var(y | eta)."""
        raise NotImplementedError

    def draw(self, eta: Array, extra: Array, rng: np.random.Generator) -> Array:
        """An outcome (n,) for each eta (n,)."""
        raise NotImplementedError

    def cdf(self, y: Array, eta: Array, extra: Array) -> tuple[Array, Array]:
        """(P(Y < y), P(Y <= y)); equal for continuous outcomes."""
        raise NotImplementedError

    def latent_variance(self, eta: Array, extra: Array) -> float:
        """Residual variance on the scale of eta (Nakagawa, Johnson & Schielzeth 2017); ``eta`` of the average row."""
        raise NotImplementedError
