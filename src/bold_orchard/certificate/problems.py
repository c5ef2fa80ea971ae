"""The reference problems: made-up trees with whole-number harvests, whose answers are known without rounding."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from typing import Any

import numpy as np
from scipy import integrate, special

from bold_orchard.certificate.exact import decimal, determinant, deviance, digits, least_squares, solve
from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.inference.coefficients.terms import terms
from bold_orchard.inference.distributions import quantile_t
from bold_orchard.inference.fit import Fit, Settings, fit

HARVEST = [[12, 15, 11], [21, 18, 24], [9, 13, 8], [17, 19, 22], [14, 10, 15], [25, 21, 20]]


@dataclass(frozen=True)
class Check:
    """One figure: the answer computed, how many digits agree with the exact one, and how many are needed to pass."""

    problem: str
    source: str
    quantity: str
    exact: float
    computed: float
    digits: float
    needed: float

    @property
    def passed(self) -> bool:
        return self.digits >= self.needed


def check(problem: str, source: str, quantity: str, computed: float, exact: Decimal | Fraction, needed: float) -> Check:
    return Check(problem, source, quantity, float(exact), float(computed), digits(float(computed), exact), needed)


def _fitted(sentence: str, columns: dict[str, Any], **options: Any) -> Fit:
    own = {k: options.pop(k) for k in ("method", "df", "points") if k in options}
    n = len(next(iter(columns.values())))
    return fit(
        sentence,
        Table({k: np.asarray(v) for k, v in columns.items()}, "the reference problem", n),
        Settings(options=Options(**options), **own),
    )


def linear_algebra() -> Iterator[Check]:
    """The inverse of a Hilbert matrix has whole numbers (Choi 1983); a library that is broken does not find them."""
    n, source = 6, "Choi (1983), American Mathematical Monthly 90, 301-312"
    hilbert = [[Fraction(1, i + j + 1) for j in range(n)] for i in range(n)]
    h = np.array([[float(v) for v in row] for row in hilbert])
    exact = solve(hilbert, [Fraction(int(i == n - 1)) for i in range(n)])
    low = np.linalg.cholesky(h)
    yield check(
        "Hilbert matrix of order 6",
        source,
        "last element of the inverse",
        float(np.linalg.inv(h)[-1, -1]),
        exact[-1],
        7,
    )
    yield check(
        "Hilbert matrix of order 6",
        source,
        "log determinant",
        2 * float(np.log(np.diag(low)).sum()),
        decimal(determinant(hilbert)).ln(),
        9,
    )


def polynomial() -> Iterator[Check]:
    """Wampler (1970): powers of x = 0, ..., 20 up to the fifth, with errors of one size and changing sign."""
    x = np.arange(21)
    y = sum(x.astype(float) ** k for k in range(6)) + np.where(x % 2, 1.0, -1.0) * 100.0
    made = _fitted("y = power(x, 5)", {"x": x, "y": y}, method="ml")
    rows = [[Fraction(int(v)) ** k for k in range(6)] for v in x]
    exact = least_squares(rows, [Fraction(v) for v in y.tolist()])
    source = "Wampler (1970), Journal of the American Statistical Association 65, 549-565"
    for k in (0, 1, 5):
        yield check("polynomial of degree 5", source, f"coefficient of x^{k}", made.evaluation.b[k], exact[k], 8)


def one_way() -> Iterator[Check]:
    """Balanced trees in orchards: REML has closed forms in the mean squares (Searle, Casella & McCulloch 1992, ch. 3)."""
    j, n = len(HARVEST), len(HARVEST[0])
    whole = [Fraction(v) for row in HARVEST for v in row]
    grand = sum(whole, Fraction(0)) / (j * n)
    means = [Fraction(sum(row), n) for row in HARVEST]
    between = n * sum(((m - grand) ** 2 for m in means), Fraction(0)) / (j - 1)
    within = sum(((v - m) ** 2 for row, m in zip(HARVEST, means) for v in row), Fraction(0)) / (j * (n - 1))
    made = _fitted(
        "yield = intercept; each orchard: intercept",
        {"orchard": np.repeat(np.arange(j), n), "yield": np.array(HARVEST).ravel()},
    )
    source = "Searle, Casella & McCulloch (1992), Variance Components, ch. 3"
    e, name = made.evaluation, "six orchards of three trees"
    yield check(name, source, "intercept", e.b[0], grand, 12)
    yield check(name, source, "variance between orchards", e.covariance(0)[0, 0], (between - within) / n, 7)
    yield check(name, source, "residual variance", e.sigma2, within, 7)
    se = made.result.fixed[0].se
    yield check(name, source, "standard error of the intercept", float(se or 0), decimal(between / (j * n)).sqrt(), 7)
    v = [
        [(between - within) / n * int(a // n == b // n) + within * int(a == b) for b in range(j * n)]
        for a in range(j * n)
    ]
    yield check(
        name, source, "restricted deviance", e.deviance, deviance(whole, [[Fraction(1)]] * (j * n), v, True), 12
    )
    yield check(
        name, source, "degrees of freedom of the intercept", float(made.result.fixed[0].df or 0), Fraction(j - 1), 6
    )


def split_plot() -> Iterator[Check]:
    """A balanced split plot: F and degrees of freedom of both strata (Fisher 1925; Kenward & Roger 1997 are exact here)."""
    rows: list[tuple[int, int, int]] = []
    y = [53, 55, 59, 54, 54, 60, 30, 35, 36, 40, 47, 48, 46, 49, 50, 45, 48, 53, 35, 36, 40, 39, 46, 49]
    for block in range(4):
        for pruning in range(2):
            rows += [(block, pruning, soil) for soil in range(3)]
    value = {r: Fraction(v) for r, v in zip(rows, y)}

    def mean(keep: Callable[[tuple[int, int, int]], bool]) -> Fraction:
        own = [v for r, v in value.items() if keep(r)]
        return sum(own, Fraction(0)) / len(own)

    m = mean(lambda r: True)
    b = [mean(lambda r, i=i: r[0] == i) for i in range(4)]  # type: ignore[misc]
    p = [mean(lambda r, i=i: r[1] == i) for i in range(2)]  # type: ignore[misc]
    s = [mean(lambda r, i=i: r[2] == i) for i in range(3)]  # type: ignore[misc]
    bp = {(i, k): mean(lambda r, i=i, k=k: r[:2] == (i, k)) for i in range(4) for k in range(2)}  # type: ignore[misc]
    ps = {(i, k): mean(lambda r, i=i, k=k: r[1:] == (i, k)) for i in range(2) for k in range(3)}  # type: ignore[misc]
    ms_p = 12 * sum(((v - m) ** 2 for v in p), Fraction(0))
    ms_whole = 3 * sum(((bp[i, k] - b[i] - p[k] + m) ** 2 for i, k in bp), Fraction(0)) / 3
    ms_s = 8 * sum(((v - m) ** 2 for v in s), Fraction(0)) / 2
    rest = sum(((v - bp[r[:2]] - ps[r[1:]] + p[r[1]]) ** 2 for r, v in value.items()), Fraction(0)) / 12
    data = {
        "block": [r[0] for r in rows],
        "pruning": [f"p{r[1]}" for r in rows],
        "soil": [f"s{r[2]}" for r in rows],
        "yield": [float(v) for v in y],
    }
    for df in ("satterthwaite", "kenward-roger"):
        made = _fitted(
            "yield = cross(pruning, soil); each block: intercept; each block in pruning: intercept",
            {k: np.array(v, dtype=None if k == "yield" else object if k != "block" else int) for k, v in data.items()},
            df=df,
        )
        tests = {t["term"]: t for t in terms(made, 3).document["tests"]}
        source = "Fisher (1925), Statistical Methods for Research Workers; " + (
            "Satterthwaite (1946)" if df == "satterthwaite" else "Kenward & Roger (1997)"
        )
        yield check(
            f"split plot, {df}",
            source,
            "F of the whole plots' treatment",
            tests["pruning"]["value"],
            ms_p / ms_whole,
            6,
        )
        yield check(
            f"split plot, {df}",
            source,
            "its denominator degrees of freedom",
            tests["pruning"]["den_df"],
            Fraction(3),
            5,
        )
        yield check(
            f"split plot, {df}", source, "F of the split plots' treatment", tests["soil"]["value"], ms_s / rest, 6
        )
        yield check(
            f"split plot, {df}", source, "its denominator degrees of freedom", tests["soil"]["den_df"], Fraction(12), 5
        )


def dense_likelihoods() -> Iterator[Check]:
    """Deviances at the estimates told, evaluated densely without rounding: slopes, crossed units, AR(1)."""
    n = 16
    rain = [3, 7, 1, 9, 4, 6, 2, 8, 5, 7, 3, 9, 6, 1, 4, 8]
    y = [14, 22, 11, 30, 18, 20, 9, 24, 17, 27, 12, 29, 21, 8, 15, 26]
    tree, season = [i // 4 for i in range(n)], [i % 4 for i in range(n)]
    columns = {"tree": tree, "season": season, "rain": rain, "yield": y}
    ones_rain = [[Fraction(1), Fraction(r)] for r in rain]
    whole = [Fraction(v) for v in y]
    source = "the definition (Laird & Ware 1982; Harville 1977), by rational arithmetic"

    def frac(x: Any) -> Fraction:
        return Fraction(float(x))

    def held(name: str, made: Fit, covariance: Callable[[int, int], Fraction], restricted: bool) -> Check:
        """The deviance of a fit against that of its rows' covariance between rows a and b."""
        v = [[covariance(a, b) for b in range(n)] for a in range(n)]
        exact = deviance(whole, ones_rain, v, restricted)
        what = "restricted deviance" if restricted else "deviance"
        return check(name, source, what, made.evaluation.deviance, exact, 11)

    slopes = _fitted("yield = rain; each tree: intercept + rain", columns, force=True)
    g = [[frac(v) for v in row] for row in slopes.evaluation.covariance(0)]
    rest, z = frac(slopes.evaluation.sigma2), ones_rain

    def of_slopes(a: int, b: int) -> Fraction:
        shared = sum((z[a][i] * g[i][k] * z[b][k] for i in range(2) for k in range(2)), Fraction(0))
        return shared * int(tree[a] == tree[b]) + rest * int(a == b)

    yield held("slopes of four trees", slopes, of_slopes, True)
    crossed = _fitted("yield = rain; each tree: intercept; each season: intercept", columns, method="ml")
    one, two = (frac(crossed.evaluation.covariance(f)[0, 0]) for f in (0, 1))
    left = frac(crossed.evaluation.sigma2)

    def of_crossed(a: int, b: int) -> Fraction:
        return one * int(tree[a] == tree[b]) + two * int(season[a] == season[b]) + left * int(a == b)

    yield held("trees crossed with seasons", crossed, of_crossed, False)
    serial = _fitted("yield = rain; within tree: ar1(season)", columns)
    rho, size = frac(serial.result["residual"]["parameters"]["rho"]), frac(serial.evaluation.sigma2)

    def of_serial(a: int, b: int) -> Fraction:
        return size * rho ** abs(season[a] - season[b]) * int(tree[a] == tree[b])

    yield held("serial correlation", serial, of_serial, True)


def counted() -> Iterator[Check]:
    """Tables of counts: log odds and log rate ratios with their standard errors (Woolf 1955)."""
    table = [[18, 7], [9, 21]]
    columns = {"netting": ["no"] * 25 + ["yes"] * 30, "ripe": [1] * 18 + [0] * 7 + [1] * 9 + [0] * 21}
    made = _fitted(
        "ripe = netting",
        {"netting": np.array(columns["netting"], dtype=object), "ripe": np.array(columns["ripe"])},
        family="binomial",
    )
    odds = Fraction(table[1][0] * table[0][1], table[1][1] * table[0][0])
    source, row = "Woolf (1955), Annals of Human Genetics 19, 251-253", made.result.fixed[1]
    yield check(
        "ripe fruit with and without nets", source, "log odds ratio", float(row.estimate or 0), decimal(odds).ln(), 8
    )
    variance = sum((Fraction(1, v) for r in table for v in r), Fraction(0))
    yield check(
        "ripe fruit with and without nets",
        source,
        "its standard error",
        float(row.se or 0),
        decimal(variance).sqrt(),
        6,
    )
    moths = {"netting": np.array(["no"] * 4 + ["yes"] * 4, dtype=object), "moths": np.array([12, 9, 15, 8, 3, 5, 2, 4])}
    made = _fitted("moths = netting", moths, family="poisson")
    source, row = "the closed form of two Poisson means", made.result.fixed[1]
    yield check(
        "moths with and without nets",
        source,
        "log rate ratio",
        float(row.estimate or 0),
        decimal(Fraction(14, 44)).ln(),
        8,
    )
    yield check(
        "moths with and without nets",
        source,
        "its standard error",
        float(row.se or 0),
        decimal(Fraction(1, 14) + Fraction(1, 44)).sqrt(),
        6,
    )


def integrals() -> Iterator[Check]:
    """A binomial random intercept: adaptive quadrature against the integral itself by another method."""
    won, of = [3, 7, 1, 5, 8, 2], 9
    tree, ripe = np.repeat(np.arange(6), of), np.concatenate([[1] * w + [0] * (of - w) for w in won])
    made = _fitted("ripe = intercept; each tree: intercept", {"tree": tree, "ripe": ripe}, family="binomial", points=25)
    b, sd = float(made.evaluation.b[0]), float(np.sqrt(made.evaluation.covariance(0)[0, 0]))

    def chance(u: float, w: int) -> float:
        p = special.expit(b + sd * u)
        return float(p**w * (1 - p) ** (of - w) * np.exp(-0.5 * u * u) / np.sqrt(2 * np.pi))

    total = -2.0 * sum(
        float(np.log(integrate.quad(chance, -12, 12, args=(w,), epsabs=1e-14, epsrel=1e-13, limit=200)[0])) for w in won
    )
    source = "numerical integration (QUADPACK, Piessens and others 1983)"
    yield check(
        "ripe fruit of six trees",
        source,
        "deviance by 25 quadrature points",
        made.evaluation.deviance,
        Decimal(total),
        9,
    )


def tables_of_laws() -> Iterator[Check]:
    """Quantiles and tails with closed forms: t on 2 degrees of freedom, chi-squared on 2, F on 2."""
    source = "closed forms (Johnson, Kotz & Balakrishnan 1995)"
    p = Fraction(95, 100)
    exact = decimal(2 * p * p / (1 - p * p)).sqrt()
    yield check("quantiles", source, "t on 2 degrees of freedom, 95% two-sided", quantile_t(0.95, 2.0), exact, 10)
    yield check(
        "tails", source, "chi-squared on 2 above 7", float(special.chdtrc(2, 7.0)), (decimal(Fraction(-7, 2))).exp(), 12
    )
    yield check(
        "tails",
        source,
        "F on 2 and 10 above 4",
        float(special.fdtrc(2, 10, 4.0)),
        decimal(1 + Fraction(8, 10)) ** -5,
        12,
    )


PROBLEMS = (linear_algebra, polynomial, one_way, split_plot, dense_likelihoods, counted, integrals, tables_of_laws)
