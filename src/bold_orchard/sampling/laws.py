"""Laws that a prior can be, read from plain words: ``rain = normal(0, 2)``."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.errors import UsageError, nearest

Array = NDArray[Any]
LOG_2PI = math.log(2 * math.pi)
CALL = re.compile(r"^\s*([A-Za-z-]+)\s*(?:\(\s*(.*?)\s*\))?\s*$")


@dataclass(frozen=True)
class Law:
    """A density on the scale of the parameter as it is reported: ``name`` with its ``figures``, ``text`` as typed."""

    name: str
    figures: tuple[float, ...]
    text: str

    def density(self, x: float) -> tuple[float, float]:
        """log density at x, constants included, and its slope; minus infinity outside."""
        return LAWS[self.name].density(float(x), *self.figures)

    def drawn(self, rng: np.random.Generator) -> float:
        """A draw; NaN from a law that is not proper."""
        return LAWS[self.name].drawn(rng, *self.figures)

    @property
    def normal(self) -> tuple[float, float] | None:
        """Mean and precision where coefficients under this law can be integrated out: normal or flat."""
        if self.name == "flat":
            return 0.0, 0.0
        return (self.figures[0], 1.0 / self.figures[1] ** 2) if self.name == "normal" else None


@dataclass(frozen=True)
class _Kind:
    """How many figures a law has, which of them must be above zero, its density and its draws; ``half`` laws live above zero."""

    figures: tuple[str, ...]
    positive: tuple[int, ...]
    density: Callable[..., tuple[float, float]]
    drawn: Callable[..., float]
    half: bool = False


def _normal(x: float, m: float, s: float) -> tuple[float, float]:
    z = (x - m) / s
    return -0.5 * (LOG_2PI + z * z) - math.log(s), -z / s


def _student(x: float, df: float, m: float, s: float) -> tuple[float, float]:
    z = (x - m) / s
    constant = math.lgamma((df + 1) / 2) - math.lgamma(df / 2) - 0.5 * math.log(df * math.pi) - math.log(s)
    return constant - 0.5 * (df + 1) * math.log1p(z * z / df), -(df + 1) * z / (df + z * z) / s


def _half(density: Callable[..., tuple[float, float]]) -> Callable[..., tuple[float, float]]:
    def folded(x: float, *figures: float) -> tuple[float, float]:
        if x < 0:
            return -math.inf, 0.0
        value, slope = density(x, *figures)
        return value + math.log(2.0), slope

    return folded


def _exponential(x: float, rate: float) -> tuple[float, float]:
    return (math.log(rate) - rate * x, -rate) if x >= 0 else (-math.inf, 0.0)


LAWS: dict[str, _Kind] = {
    "normal": _Kind(("m", "s"), (1,), _normal, lambda r, m, s: float(r.normal(m, s))),
    "student": _Kind(("df", "m", "s"), (0, 2), _student, lambda r, df, m, s: float(m + s * r.standard_t(df))),
    "half-normal": _Kind(("s",), (0,), _half(lambda x, s: _normal(x, 0.0, s)), lambda r, s: float(abs(r.normal(0.0, s))), True),
    "half-student": _Kind(
        ("df", "s"), (0, 1), _half(lambda x, df, s: _student(x, df, 0.0, s)), lambda r, df, s: float(abs(s * r.standard_t(df))), True
    ),
    "exponential": _Kind(("rate",), (0,), _exponential, lambda r, rate: float(r.exponential(1.0 / rate)), True),
    "flat": _Kind((), (), lambda x: (0.0, 0.0), lambda r: math.nan),
    "lkj": _Kind(("eta",), (0,), lambda x, eta: (0.0, 0.0), lambda r, eta: math.nan),
}  # fmt: skip


def read_law(text: str) -> Law:
    """A law as it is typed; raises UsageError for a name, a number of figures or a figure that cannot be."""
    match = CALL.match(text)
    name = match.group(1).lower() if match else ""
    if match is None or name not in LAWS:
        near = nearest(name, list(LAWS))
        hint = f"did you mean '{near}'?" if near else f"there are: {', '.join(LAWS)}"
        raise UsageError(f"--prior: '{text.strip()}' is no law; {hint}")
    kind = LAWS[name]
    parts = [p.strip() for p in match.group(2).split(",")] if match.group(2) else []
    example = f"{name}({', '.join(kind.figures)})" if kind.figures else name
    if len(parts) != len(kind.figures):
        raise UsageError(f"--prior: {name} is written {example}, not '{text.strip()}'")
    try:
        figures = tuple(float(p) for p in parts)
    except ValueError:
        raise UsageError(f"--prior: the figures of {example} are numbers, not '{text.strip()}'") from None
    for place in kind.positive:
        if not 0 < figures[place] < math.inf:
            raise UsageError(f"--prior: {kind.figures[place]} of {example} is above zero, not {parts[place]}")
    if not all(math.isfinite(f) for f in figures):
        raise UsageError(f"--prior: the figures of {example} are finite numbers")
    return Law(name, figures, text.strip())


def read_priors(texts: Sequence[str]) -> dict[str, Law]:
    """PARAMETER = law(...), one each; raises UsageError where one is written twice or has no law."""
    out: dict[str, Law] = {}
    for text in texts:
        name, sign, law = text.partition("=")
        while sign and CALL.match(law) is None and "=" in law:  # a parameter whose own name holds a sign
            more, sign, law = law.partition("=")
            name = f"{name}={more}"
        name = " ".join(name.split())
        if not sign or not name:
            raise UsageError(
                f"--prior is written 'PARAMETER = law(...)', for example 'rain = normal(0, 2)', not '{text}'"
            )
        if name in out:
            raise UsageError(f"--prior names '{name}' twice; one law each")
        out[name] = read_law(law)
    return out


def law(name: str, *figures: float) -> Law:
    """A law by its figures, its text rounded to four digits: what is printed is what is used."""
    rounded = tuple(float(f"{f:.4g}") for f in figures)
    return Law(name, rounded, f"{name}({', '.join(f'{f:g}' for f in rounded)})" if figures else name)
