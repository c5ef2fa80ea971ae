"""Answers by rational and fifty-digit arithmetic, written so that they are obviously right; nothing here uses floating point."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal, getcontext
from fractions import Fraction

Matrix = list[list[Fraction]]
DIGITS = 50
# pi to sixty digits (OEIS A000796)
PI = Decimal("3.14159265358979323846264338327950288419716939937510582097494")


def decimal(x: Fraction | float | int) -> Decimal:
    """To fifty digits; a float is taken for the binary number that it is."""
    getcontext().prec = DIGITS
    made = Fraction(x)
    return Decimal(made.numerator) / Decimal(made.denominator)


def solve(a: Matrix, b: Sequence[Fraction]) -> list[Fraction]:
    """x with a x = b, by elimination without rounding."""
    rows = [[*row, value] for row, value in zip(a, b)]
    n = len(rows)
    for k in range(n):
        pivot = next(i for i in range(k, n) if rows[i][k] != 0)
        rows[k], rows[pivot] = rows[pivot], rows[k]
        rows[k] = [v / rows[k][k] for v in rows[k]]
        for i in range(n):
            if i != k and rows[i][k] != 0:
                rows[i] = [v - rows[i][k] * w for v, w in zip(rows[i], rows[k])]
    return [row[-1] for row in rows]


def determinant(a: Matrix) -> Fraction:
    rows, value = [row[:] for row in a], Fraction(1)
    for k in range(len(rows)):
        pivot = rows[k][k]
        value *= pivot
        for i in range(k + 1, len(rows)):
            if rows[i][k] != 0:
                factor = rows[i][k] / pivot
                rows[i] = [v - factor * w for v, w in zip(rows[i], rows[k])]
    return value


def least_squares(x: Matrix, y: Sequence[Fraction]) -> list[Fraction]:
    """Coefficients from the normal equations."""
    p = len(x[0])
    gram = [[sum((r[i] * r[j] for r in x), Fraction(0)) for j in range(p)] for i in range(p)]
    side = [sum((r[i] * v for r, v in zip(x, y)), Fraction(0)) for i in range(p)]
    return solve(gram, side)


def deviance(y: Sequence[Fraction], x: Matrix, v: Matrix, reml: bool) -> Decimal:
    """-2 (restricted) log-likelihood of y with covariance v, coefficients at their generalised least-squares values."""
    n, p = len(y), len(x[0])
    columns = [solve(v, [row[j] for row in x]) for j in range(p)]
    vy = solve(v, list(y))
    gram = [[sum((x[k][i] * columns[j][k] for k in range(n)), Fraction(0)) for j in range(p)] for i in range(p)]
    side = [sum((x[k][i] * vy[k] for k in range(n)), Fraction(0)) for i in range(p)]
    b = solve(gram, side)
    rest = sum((y[k] * vy[k] for k in range(n)), Fraction(0)) - sum((s * c for s, c in zip(side, b)), Fraction(0))
    value = decimal(n - (p if reml else 0)) * (2 * PI).ln() + decimal(determinant(v)).ln() + decimal(rest)
    return value + (decimal(determinant(gram)).ln() if reml else Decimal(0))


def digits(computed: float, exact: Decimal | Fraction) -> float:
    """Decimal digits that agree: -log10 of the relative error (of the absolute one around zero), sixteen at most."""
    true = exact if isinstance(exact, Decimal) else decimal(exact)
    error = abs(decimal(computed) - true)
    if true != 0:
        error /= abs(true)
    return 16.0 if error < Decimal(10) ** -16 else float(max(-error.log10(), Decimal(0)))
