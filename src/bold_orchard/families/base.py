"""What a family is: the log-density of an outcome given its linear predictor, and its derivatives.

All methods take ``eta`` of shape (..., n) and give arrays of that shape; the outcome stands in the last axis. ``extra`` holds the
family's own parameters on unbounded scales (the logarithm of a dispersion, the thresholds of grades).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from bold_orchard.families.jets import Value
from bold_orchard.families.links import LINKS
from bold_orchard.own_parameter import OwnParameter

Array = NDArray[Any]


@dataclass(frozen=True)
class Data:
    """The outcome of n rows: ``y`` (n,), ``trials`` (n,) or None, prior ``weights`` (n,) or None, grades as codes; ``low`` and ``high`` (n,) are limits
    at or beyond which an outcome is known to lie there only, or None."""

    y: Array
    trials: Array | None = None
    weights: Array | None = None
    low: Array | None = None
    high: Array | None = None

    def take(self, order: Array | slice) -> Data:
        rest = (None if v is None else v[order] for v in (self.trials, self.weights, self.low, self.high))
        return Data(self.y[order], *rest)


@dataclass(frozen=True)
class Support:
    """Where outcomes may lie: a test of each (n,), and the words for it after "must be".

    ``mend`` says what to do about outcomes (n,) beyond it, by the outcome's name as a sentence writes it.
    """

    holds: Callable[[Array], Array]
    words: str
    mend: Callable[[Array, str], str] = lambda y, name: ""


@dataclass(frozen=True)
class Part:
    """An own parameter that may have a linear predictor of its own: its ``place``, and that predictor's ``sign`` and
    ``link``."""

    name: str
    place: int
    sign: float = 1.0
    link: str = "log"


class Family:
    """The contract. ``derivatives`` gives l and its first three derivatives in eta; ``extras`` the slopes of l and of the first
    two in each own parameter.

    What else a family answers for: ``reads`` how its column is read (numbers, two levels, grades); ``measure`` what its
    likelihood is a probability of, comparable only with others of the same; ``intercept`` False where thresholds take the
    intercept's place; ``additive`` where the outcome is eta plus a residual, whose likelihood is exact; ``chances`` where
    eta is a chance's, so that coefficients grow with the variance and a unit that never varies has an effect without end;
    ``separable`` where a predictor can split the outcome; ``wants_trials`` where it is of successes of trials only; ``limits`` the families it contains at an end of its own parameters, in the order
    of these; ``parts`` which own parameters may have a linear predictor of their own, and ``predictors`` the names of
    those that a family of several has; ``differenced`` where own parameters cannot be jets; ``describes`` whose link
    eta is; ``law`` the
    outcome's law in LaTeX, the mean being \\mu_{@} and @ the indices of a row; ``own`` which of these are reported.
    """

    name: ClassVar[str]
    links: ClassVar[tuple[str, ...]]
    reads: ClassVar[str] = "numbers"
    measure: ClassVar[str] = "measurements"
    support: ClassVar[Support | None] = None
    intercept: ClassVar[bool] = True
    additive: ClassVar[bool] = False
    parts: ClassVar[tuple[Part, ...]] = ()
    predictors: ClassVar[tuple[str, ...]] = ()
    differenced: ClassVar[bool] = False
    chances: ClassVar[bool] = False
    separable: ClassVar[bool] = False
    wants_trials: ClassVar[bool] = False
    limits: ClassVar[tuple[str, ...]] = ()
    describes: ClassVar[str] = "mean"
    own: ClassVar[tuple[OwnParameter, ...]] = ()
    law: ClassVar[str] = ""
    extra_names: tuple[str, ...] = ()

    def __init__(self, link: str, data: Data) -> None:
        self.link, self.data, self.y = link, data, data.y

    @classmethod
    def written(cls, link: str) -> tuple[str, str]:
        """The law of an outcome and the left side of its linear predictor, in LaTeX; @ stands for the indices of a row."""
        law = cls.law or f"\\operatorname{{{cls.name}}}(\\mu_{{@}})"
        return law, LINKS[link].written.replace("#", "\\mu_{@}")

    @classmethod
    def by(cls, link: str) -> type[Family]:
        """The class that serves one of the links."""
        return cls

    @property
    def n_extra(self) -> int:
        return len(self.extra_names)

    @property
    def weights(self) -> Array | float:
        return 1.0 if self.data.weights is None else self.data.weights

    def on(self, data: Data) -> Family:
        """The same family over other rows."""
        return type(self)(self.link, data)

    def unit(self) -> float:
        """What is a large step of eta: 1 on the scales of the links, the spread of the outcome where eta is measured as it."""
        return 1.0

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

    def density(self, eta: Value, extra: Sequence[Value]) -> Value:
        """l of every row where eta and own parameters may be jets; of families that have ``parts``."""
        raise NotImplementedError

    def one_sided(self, y: Array) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
        """Rows whose chance only rises with eta, and rows whose chance only falls, of a separable family; (n,) each."""
        raise NotImplementedError

    def lost(self, extra: Array) -> NDArray[np.bool_]:
        """Own parameters that have run to a limit where nothing depends on them any more, (n_extra,)."""
        return np.zeros(len(extra), dtype=bool)

    def recentred(self, extra: Array, by: float) -> Array:
        """The own parameters when eta of every row is more by ``by``."""
        return extra

    def stretched(self, extra: Array, factor: float) -> Array:
        """The own parameters when eta is ``factor`` times as wide."""
        return extra

    def mean(self, eta: Array, extra: Array) -> Array:
        """E[y | eta] (of a proportion for trials)."""
        return LINKS[self.link].mean(eta)

    def mean_slope(self, eta: Array, extra: Array) -> Array:
        """d mean / d eta."""
        return LINKS[self.link].slope(eta)

    def reported(self, extra: Array) -> dict[str, float]:
        """The own parameters that are reported, by name."""
        return {o.name: o.back(float(extra[o.place])) for o in self.own}

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
