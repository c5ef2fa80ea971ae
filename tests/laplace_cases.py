"""Small generalized models and their dense columns, for the tests of Laplace and of weighted products."""

from __future__ import annotations

import numpy as np
import pandas as pd

from bold_orchard.data.table import Table
from bold_orchard.design.build import build_design
from bold_orchard.design.design import Options
from bold_orchard.estimation.generalized_search import make_laplace
from bold_orchard.sentence.parse import read_sentence

UNITS = [
    "each orchard: intercept", "each orchard: intercept + rain", "each orchard: intercept + rain; each tree: intercept",
    "each orchard: intercept + rain; each season: intercept", "each orchard: intercept; each tree: intercept; each season: intercept",
    "each orchard (diagonal): intercept + rain; each season: intercept + rain", 'each orchard (known "kin.csv"): intercept; each tree: intercept',
]  # fmt: skip


def orchards(n=110, seed=1):
    r = np.random.default_rng(seed)
    f = pd.DataFrame({"orchard": r.integers(0, 8, n), "season": r.integers(0, 4, n), "rain": r.normal(2, 1, n)})
    f["tree"] = f.orchard * 3 + r.integers(0, 3, n)
    eta = (
        0.3 * f.rain
        - 0.5
        + 0.8 * r.normal(size=8)[f.orchard]
        + 0.4 * r.normal(size=8)[f.orchard] * f.rain
        + 0.5 * r.normal(size=24)[f.tree]
    )
    p = 1 / (1 + np.exp(-eta))
    f["binomial"], f["trials"], f["of"] = (r.random(n) < p) * 1, r.binomial(5, p), 5
    f["poisson"], f["counts"] = r.poisson(np.exp(eta)), r.poisson(np.exp(eta) * r.gamma(2, 0.5, n))
    f["gamma"], f["beta"] = r.gamma(2, np.exp(eta) / 2), r.beta(5 * p, 5 * (1 - p))
    f["ordinal"] = np.clip(np.round(eta + r.logistic(size=n) + 1), 0, 3).astype(int)
    f["gaussian"], f["w"] = np.exp(0.5 * eta) + 0.3 * r.normal(size=n), r.uniform(0.5, 2, n)
    f["tails"] = 40 + 5 * (eta + 0.4 * r.standard_t(3, n))
    f["zeros"] = f.counts * (r.random(n) < 0.7)
    return f


def made(family, units, frame=None):
    column, options = outcome(family)
    frame = orchards() if frame is None else frame
    design = build_design(read_sentence(f"{column} = rain; {units}"), Table(frame, "t", len(frame)), options)
    return design, make_laplace(design)


def somewhere(c, seed=0):
    """A point that is not the maximum."""
    r = np.random.default_rng(seed)
    point = 0.3 * r.normal(size=len(c.bounded))
    point[c.theta] += 0.4
    point[c.extra] = c.family.start()[1]
    return point


def dense_columns(c, point):
    """Z Lambda (n, q), effect by effect."""
    out = []
    for f, t in enumerate(c.factors(point)):
        unit, scaled = c.rows.units[f], c.rows.z[f].T @ t
        for a in range(scaled.shape[1]):
            own = np.zeros((len(scaled), unit.levels))
            own[np.arange(len(scaled)), unit.codes] = scaled[:, a]
            out.append(own if unit.relationship_factor is None else own @ unit.relationship_factor)
    return np.hstack(out) if out else np.zeros((c.rows.frame.n, 0))


def dense_laplace(c, point):
    """The deviance by Laplace's approximation in all effects at once, their mode by a plain Newton search."""
    z, fixed, extra = dense_columns(c, point), c.linear(point), point[c.extra]
    v = np.zeros(z.shape[1])

    def f(v):
        return -c.family.value(fixed + z @ v, extra).sum() + 0.5 * v @ v

    for _ in range(300):
        _, d1, d2, _ = c.family.derivatives(fixed + z @ v, extra)
        slope = v - z.T @ d1
        exact = np.eye(len(v)) - z.T @ (d2[:, None] * z)
        safe = np.eye(len(v)) + z.T @ (np.maximum(-d2, 1e-3)[:, None] * z)
        step = -np.linalg.solve(exact if np.abs(slope).max(initial=0.0) < 1e-2 else safe, slope)
        part = 1.0
        while f(v + part * step) > f(v) + 1e-13 and part > 1e-8:
            part /= 2
        v = v + part * step
        if np.abs(step).max(initial=0.0) < 1e-13:
            break
    _, _, d2, _ = c.family.derivatives(fixed + z @ v, extra)
    return 2 * f(v) + np.linalg.slogdet(np.eye(len(v)) - z.T @ (d2[:, None] * z))[1]


def outcome(family):
    column = {
        "probit": "binomial",
        "negative-binomial": "counts",
        "trials": "trials of of",
        "beta-binomial": "trials of of",
        "lognormal": "gamma",
        "student": "tails",
        "hurdle-poisson": "poisson",
        "zero-inflated-negative-binomial": "zeros",
    }.get(family, family)
    name = {"probit": "binomial", "trials": "binomial"}.get(family, family)
    return column, Options(family=name, link={"probit": "probit", "gaussian": "log"}.get(family))
