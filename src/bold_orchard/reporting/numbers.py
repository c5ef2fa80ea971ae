"""Numbers as people read them."""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import partial

ROUNDING = 1e-10  # of a standard error
MOST_PLACES = 9  # decimals, or places before the point, at which a number is still written out


def figure(x: float | None, digits: int = 4, error: float | None = None) -> str:
    """``x`` to some significant digits, without exponents in the common range; an em dash for nothing.

    0 for what is nothing but rounding beside its standard ``error``.
    """
    if x is None:
        return "—"
    if abs(x) <= ROUNDING * (error or 0.0):
        return "0"
    if math.isinf(x):
        return "∞"
    size = math.floor(math.log10(abs(x)))
    if size >= 9 or size < -5:
        return f"{x:.{digits - 1}e}"
    return f"{x:,.{max(digits - 1 - size, 0)}f}"


def estimated(value: float | None, error: float | None, digits: int = 4) -> tuple[str, str]:
    """An estimate and its standard error, side by side in a table."""
    return figure(value, digits, error), figure(error, 3)


def fixed(x: float | None, places: int) -> str:
    if x is None:
        return "—"
    text = f"{x:,.{places}f}"
    return text.removeprefix("-") if not any(c in "123456789" for c in text) else text


def rounding(error: float | None, digits: int = 4) -> Callable[[float | None], str]:
    """How a number and all that stands beside it are written: to the decimals at which its standard error has
    ``digits`` - 1 figures.

    To ``digits`` figures where there is no error, or one that would ask for too many decimals.
    """
    if not error or not math.isfinite(error):
        return partial(figure, digits=digits)
    places = max(digits - 1, 1) - 1 - math.floor(math.log10(abs(error)))
    return partial(figure, digits=digits) if abs(places) > MOST_PLACES else partial(fixed, places=max(places, 0))


def p_value(p: float | None) -> str:
    """0.034, or < 0.001; never stars."""
    if p is None:
        return "—"
    return "< 0.001" if p < 0.001 else f"{p:.3f}"


def span(low: float, high: float, digits: int, whole: bool) -> str:
    """A range of values; whole numbers without a point."""
    if whole and max(abs(low), abs(high)) < 1e9:
        return f"{low:,.0f} to {high:,.0f}"
    return f"{figure(low, digits)} to {figure(high, digits)}"


def percent(x: float | None) -> str:
    return "—" if x is None else f"{100 * x:.1f}%"


def root(x: float | None) -> float | None:
    return None if x is None or x < 0 else math.sqrt(x)


def degrees(df: float | None) -> str:
    if df is None:
        return "—"
    return f"{df:,.0f}" if df == round(df) or df >= 1000 else f"{df:,.1f}"
