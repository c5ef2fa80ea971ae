"""Links: how the mean of an outcome follows from the linear predictor, and what exp(coefficient) is called."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import scipy
from numpy.typing import NDArray

Array = NDArray[Any]
TOP = 700.0  # exp of more overflows


@dataclass(frozen=True)
class Link:
    """``mean`` and its ``slope`` at eta, ``inverse`` the link itself; ``ratio`` names exp(coefficient), None where it means nothing.

    ``latent_variance`` is that of the standard distribution whose threshold model has this link (None without such);
    ``written`` is the link of # in LaTeX.
    """

    mean: Callable[[Array], Array]
    slope: Callable[[Array], Array]
    inverse: Callable[[Array], Array]
    ratio: str | None = None
    latent_variance: float | None = None
    written: str = "#"


def _special(name: str) -> Callable[[Array], Array]:
    """A function of scipy.special, which is loaded when one is first called."""
    return lambda values: np.asarray(getattr(scipy.special, name)(values))


_logistic = _special("expit")


def _exp(eta: Array) -> Array:
    return np.exp(np.minimum(eta, TOP))


def _logistic_slope(eta: Array) -> Array:
    p = _logistic(eta)
    return np.asarray(p * (1 - p))


def _normal_density(eta: Array) -> Array:
    return np.asarray(np.exp(-0.5 * eta**2) / np.sqrt(2 * np.pi))


def _gompertz_mean(eta: Array) -> Array:
    return np.asarray(-np.expm1(-np.exp(eta)))


def _gompertz_slope(eta: Array) -> Array:
    return np.asarray(np.exp(eta - np.exp(eta)))


LINKS = {
    "identity": Link(lambda eta: eta, np.ones_like, lambda mean: mean),
    "log": Link(_exp, _exp, np.log, "rate ratio", written=r"\log #"),
    "logit": Link(_logistic, _logistic_slope, _special("logit"), "odds ratio", np.pi**2 / 3, r"\operatorname{logit} #"),
    "probit": Link(_special("ndtr"), _normal_density, _special("ndtri"), None, 1.0, r"\Phi^{-1}(#)"),
    "cloglog": Link(
        _gompertz_mean,
        _gompertz_slope,
        lambda p: np.log(-np.log1p(-p)),
        "hazard ratio",
        np.pi**2 / 6,
        r"\log(-\log(1 - #))",
    ),
}
