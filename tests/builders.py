"""Data and designs that several tests share."""

from __future__ import annotations

import csv

import numpy as np
import pandas as pd

from bold_orchard.data.table import Table
from bold_orchard.design.build import build_design
from bold_orchard.design.design import Options
from bold_orchard.sentence.parse import read_sentence


def make_trees(seed=1, orchards=9, rows=70, slope_sd=0.4, orchard_sd=1.0, scale=1.0, offset=0.0):
    """A small unbalanced table: some orchards have one row only."""
    r = np.random.default_rng(seed)
    code = np.concatenate([np.arange(orchards), r.choice(orchards - 2, rows - orchards)])
    rain, sun = r.normal(3, 1, rows), r.normal(0, 2, rows)
    u = r.normal(size=(orchards, 2)) * [orchard_sd, slope_sd]
    y = 2 + 0.7 * rain - 0.3 * sun + u[code, 0] + u[code, 1] * rain + r.normal(size=rows)
    return pd.DataFrame({"orchard": [f"o{c}" for c in code], "rain": rain * scale, "sun": sun, "yield": y + offset})


def inspections(n=600, units=25, seed=5):
    r = np.random.default_rng(seed)
    o = r.integers(0, units, n)
    rain = r.normal(60, 10, n).round(1)
    spray = np.array(["none", "copper", "sulphur"])[np.arange(units) % 3][o]
    eta = -0.5 + 0.03 * (rain - 60) - 0.8 * (spray == "copper") + 0.7 * r.normal(size=units)[o]
    p, m = 1 / (1 + np.exp(-eta)), r.integers(5, 40, n)
    frame = pd.DataFrame({
        "orchard": [f"o{x}" for x in o], "rain": rain, "spray": spray, "scab": r.binomial(m, p), "fruits": m,
        "infected": np.where(r.random(n) < p, "yes", "no"), "aphids": r.poisson(np.exp(1 + 0.5 * eta) * r.gamma(2, 0.5, n)),
        "grade": np.clip(np.round(1.5 + eta + r.logistic(size=n)), 0, 3).astype(int) + 1,
        "weight": r.gamma(4, np.exp(1 + 0.3 * eta) / 4), "share": r.beta(5 * p, 5 * (1 - p)), "size": np.exp(0.2 * eta) + 0.2 * r.normal(size=n),
    })  # fmt: skip
    borers, present = r.poisson(np.exp(1.2 + 0.5 * eta)), r.random(n) < 0.7
    frame["borers"], frame["cankers"] = borers * present, np.maximum(borers, 1) * present
    q = np.clip(np.random.default_rng(n).beta(4 * p, 4 * (1 - p)), 1e-9, 1 - 1e-9)
    frame["clustered"] = np.random.default_rng(n + 1).binomial(m, q)
    frame["girth"] = 30 + 2 * eta + r.standard_t(4, n)
    frame["sap"] = np.exp(0.5 * eta + 0.4 * r.normal(size=n))
    return frame


def table_of(frame):
    return Table(frame, "t", len(frame))


def groves(units, rows, seed=1):
    r = np.random.default_rng(seed)
    code = np.repeat(np.arange(units), rows)
    frame = pd.DataFrame(
        {
            "orchard": [f"o{c}" for c in code],
            "rain": r.normal(size=len(code)),
            "soil": np.where(code % 2, "clay", "sand"),
        }
    )
    frame["yield"] = (
        4
        + frame["rain"] * (1 + 0.5 * r.normal(size=units)[code])
        + r.normal(size=units)[code]
        + r.normal(size=len(code))
    )
    frame["ripe"] = (frame["yield"] + r.logistic(size=len(code)) > 4).astype(int)
    return frame


def trial(seed=3, trees=20, weeks=(1, 2, 3, 5, 6, 9), keep=0.85):
    """Trees in orchards over unequal weeks, shuffled and with gaps; seasons cross."""
    r = np.random.default_rng(seed)
    n = trees * len(weeks)
    frame = pd.DataFrame({"tree": np.repeat(np.arange(trees), len(weeks)), "week": np.tile(weeks, trees)})
    frame["orchard"], frame["tree"] = frame["tree"] // 4, [f"t{t}" for t in frame["tree"]]
    frame["season"], frame["rain"] = r.integers(0, 4, n), r.normal(2, 1, n)
    frame["soil"] = r.choice(["clay", "loam", "sand"], n)
    codes = frame["tree"].str[1:].astype(int).to_numpy()
    frame["yield"] = (
        1 + 0.5 * frame["rain"] + r.normal(size=trees)[codes] + r.normal(size=n) * (1 + (frame["soil"] == "clay"))
    )
    frame["yield"] += r.normal(size=trees)[frame["orchard"]] * frame["rain"]
    return frame.sample(frac=keep, random_state=seed).reset_index(drop=True)


def write_matrix(path, labels, matrix):
    with path.open("w", newline="") as f:
        csv.writer(f).writerows([["", *labels], *([name, *row] for name, row in zip(labels, matrix))])


def residual(frame, unit, part, time="week"):
    """R from the document alone."""
    n, p = len(frame), part["parameters"]
    r = part["variance"] * np.eye(n)
    if unit is not None:
        same = frame[unit].to_numpy()[:, None] == frame[unit].to_numpy()[None, :]
        if part["structure"] == "ar1":
            w = frame[time].to_numpy(float)
            r = part["variance"] * same * np.power(p["rho"], np.abs(w[:, None] - w[None, :]))
        elif part["structure"] == "exchangeable":
            r = part["variance"] * ((1 - p["rho"]) * np.eye(n) + p["rho"] * same)
        elif part["structure"] == "toeplitz":
            at = np.searchsorted(np.unique(frame[time]), frame[time])
            r = part["variance"] * same * np.array([1.0, *p["correlations"]])[np.abs(at[:, None] - at[None, :])]
        elif part["structure"] == "exponential":
            places = frame[[time] if isinstance(time, str) else list(time)].to_numpy(float)
            apart = np.sqrt(((places[:, None] - places[None, :]) ** 2).sum(axis=2))
            r = part["variance"] * same * np.exp(-apart / p["range"])
        else:
            at = [p["occasions"].index(str(v)) for v in frame[time]]
            r = same * np.array(p["covariance"])[np.ix_(at, at)]
    if "spread" in p:
        log_sd = np.zeros(n)
        for row in p["spread"]:
            name, _, level = row["term"].partition("[")
            column = frame[name].to_numpy()
            log_sd += row["estimate"] * (column == level[:-1] if level else column)
        r = r * np.exp(log_sd[:, None] + log_sd[None, :])
    return r


def diaries(units=30, rows=8, seed=2, tau=0.4, r=-0.4):
    """Trees that differ in level, slope and residual spread; soil and age describe the tree."""
    g = np.random.default_rng(seed)
    code, soil, age = np.repeat(np.arange(units), rows), np.arange(units) % 2, g.integers(3, 20, units)
    law = np.array([[1.0, 0.2, r * tau], [0.2, 0.4, 0.0], [r * tau, 0.0, tau**2]])
    u = g.multivariate_normal(np.zeros(3), law, size=units) * np.exp(0.4 * soil[:, None] * [1, 1, 0])
    rain = g.normal(size=len(code))
    y = 9 + rain + u[code, 0] + u[code, 1] * rain + 1.5 * np.exp(u[code, 2]) * g.normal(size=len(code))
    frame = pd.DataFrame(
        {"tree": [f"t{c}" for c in code], "rain": rain, "soil": np.array(["clay", "sand"])[soil[code]]}
    )
    frame["age"], frame["w"], frame["yield"] = age[code], g.uniform(0.5, 2, len(code)), y
    frame["season"], frame["orchard"] = np.tile(np.arange(rows), units), [f"o{c // 5}" for c in code]
    return frame.sample(frac=1, random_state=seed).reset_index(drop=True)


def coded(sentence, frame, **options):
    """The design of a sentence on a frame."""
    return build_design(read_sentence(sentence), table_of(frame), Options(**options))
