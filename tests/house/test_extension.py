"""A family, a structure of effects and one of residuals, each defined here in a few lines, go through every command."""

from __future__ import annotations

import json
import math

import numpy as np
import pandas as pd
import pytest
from scipy import special, stats

import dense
from bold_orchard import families
from bold_orchard.covariance import effects, residuals
from bold_orchard.covariance.effects.base import Structure
from bold_orchard.covariance.residuals.ar1 import AR1
from bold_orchard.covariance.residuals.base import Bands
from bold_orchard.covariance.residuals.by_place import ByPlace
from bold_orchard.families.base import Family, Support
from bold_orchard.own_parameter import OwnParameter
from bold_orchard.sentence import signatures
from builders import residual, trial

COMMANDS = [
    "show m --ratios", "check m --influence one-step", "check m --time week --influence none", "components m",
    "components m --method profile", "terms m", "terms m --likelihood", "intervals m", "intervals m --bootstrap 20",
    "means m soil --differences", "groups m", "predict m", "draw m --kind lines", "draw m --kind effects",
    "draw m --kind against", "draw m --kind coefficients", "compare empty m --bootstrap 20", "show m --matrices out",
    "equations m --estimates", "table empty m", "simulate m --draws 2 --to s.csv", "power m --quick", "plan m", "report m --to r.html",
]  # fmt: skip


class Geometric(Family):
    """Counts before a first failure: l = y eta - (y + 1) log(1 + mu), mu = exp(eta)."""

    name = "geometric"
    links = ("log",)
    measure = "counts"
    support = Support(lambda y: (y >= 0) & (y == np.round(y)), "whole numbers of zero or more")

    def start(self):
        return np.log(self.y + 0.5), np.zeros(0)

    def derivatives(self, eta, extra):
        p, w, up = special.expit(eta), self.weights, self.y + 1.0
        spread = -w * up * p * (1 - p)
        return w * (self.y * eta + up * special.log_expit(-eta)), w * (self.y - up * p), spread, spread * (1 - 2 * p)

    def variance(self, eta, extra):
        return self.mean(eta, extra) * (1 + self.mean(eta, extra))

    def draw(self, eta, extra, rng):
        return rng.geometric(1 / (1 + self.mean(eta, extra))) - 1.0

    def cdf(self, y, eta, extra):
        p = special.expit(eta)
        return 1 - p ** np.maximum(y, 0), 1 - p ** (y + 1)

    def latent_variance(self, eta, extra):
        return float(special.polygamma(1, 1.0 / (1.0 / self.mean(eta, extra) + 1.0)))


class Walk(Structure):
    """Each effect is the one before it and a step: T = theta L, L lower triangular of ones."""

    name = "walk"

    @property
    def basis(self):
        return np.tril(np.ones((self.size, self.size)))[None]

    @property
    def bounded(self):
        return np.ones(1, dtype=bool)


class Halving(AR1):
    """Correlations that halve with every unit of time: nothing to estimate."""

    name = "halving"
    HALF = np.array([np.arctanh(0.5)])

    def __init__(self, gap):
        super().__init__(gap)
        self.bounded, self.start = np.zeros(0, dtype=bool), np.zeros(0)

    def at(self, phi):
        b = super().at(self.HALF)
        return Bands(b.values, [s[:0] for s in b.slopes], b.log_det, b.log_det_slope[:0])

    own_names = ()
    own = ()


class Nugget(ByPlace):
    """Part of the residual is noise of the row alone, the rest fades: share exp(-distance / reach) beside the diagonal."""

    name = "nugget"
    takes = "places"
    own_names = ("share", "reach")

    @classmethod
    def over(cls, rows):
        return cls(rows.time[:, None], rows.starts, rows.unit)

    def __init__(self, places, starts, unit):
        super().__init__(places, starts, unit)
        self.bounded, self.start = np.zeros(2, dtype=bool), np.array([0.0, 0.5])

    @property
    def own(self):
        return (OwnParameter("share", "what of the residual fades", special.expit, 0, ends=(0.0, 1.0), edges=(-16.0, 16.0)),
                OwnParameter("reach", "how far it reaches", math.exp, 1, ends=(0.0, math.inf), edges=(-8.0, 8.0)))  # fmt: skip

    def correlations(self, phi, apart):
        share, reach = special.expit(phi[0]), np.exp(phi[1])
        fading, own = np.exp(-apart / reach) * (apart > 0), np.eye(apart.shape[-1])
        r = share * fading
        return r + own, np.stack([r * (1 - share), r * apart / reach])


@pytest.fixture
def extended():
    residuals.register(Nugget, "nugget(week)")
    families.register(Geometric)
    effects.register(Walk)
    residuals.register(Halving, "halving(week)")
    yield
    families._known.pop("geometric")
    effects._known.pop("walk")
    residuals._known.pop("halving")
    residuals._known.pop("nugget")
    signatures.WITHIN_STRUCTURES.pop("nugget")
    signatures.EACH_STRUCTURES.remove("walk")
    signatures.WITHIN_STRUCTURES.pop("halving")


def through_every_command(quick, frame, sentence, smaller, *options):
    """Fits a sentence and a smaller one, then runs all that follows; returns the larger fit's document."""
    frame.to_csv(quick.folder / "t.csv", index=False)
    small = quick("fit", "t.csv", smaller, *options, "--save", "empty")
    assert small.code == 0, small.err
    done = quick("fit", "t.csv", sentence, *options, "--save", "m", "--json")
    assert done.code == 0, done.err
    for line in COMMANDS:
        additive = done.json["family"] == "gaussian"
        if additive and "--ratios" in line:
            continue
        for form in ([], ["--json"]):
            after = quick(*line.split(), *form)
            assert after.code == 0 and after.err.count("\n") <= 1, (line, after.err)
            assert after.json if form else after.out.strip(), line
    return json.loads(done.out)


@pytest.mark.slow
def test_a_family_of_one_file(quick, extended):
    frame = trial(trees=30)
    r = np.random.default_rng(4)
    unit = pd.factorize(frame["orchard"])[0]
    eta = 1.0 + 0.3 * (frame["rain"] - frame["rain"].mean()) + 0.4 * r.normal(size=unit.max() + 1)[unit]
    frame["pears"] = r.geometric(1 / (1 + np.exp(eta))) - 1
    d = through_every_command(quick, frame, "pears = rain + soil; each orchard: intercept",
                              "pears = rain; each orchard: intercept", "--family", "geometric")  # fmt: skip
    b, sd = {row["term"]: row["estimate"] for row in d["fixed"]}, d["random"][0]["sd"][0]
    points = quick("fit", "t.csv", "pears = rain + soil; each orchard: intercept", "--family", "geometric",
                   "--points", "25", "--json").json  # fmt: skip
    b, sd = {row["term"]: row["estimate"] for row in points["fixed"]}, points["random"][0]["sd"][0]
    fixed = b["intercept"] + b["rain"] * frame["rain"].to_numpy()
    for level in frame["soil"].unique():
        fixed = fixed + b.get(f"soil[{level}]", 0.0) * (frame["soil"] == level).to_numpy()
    grid = np.linspace(-8 * sd, 8 * sd, 4001)
    total = 0.0
    for j in range(unit.max() + 1):
        own = unit == j
        mean = np.exp(fixed[own][:, None] + grid)
        logs = stats.geom.logpmf(frame["pears"].to_numpy()[own][:, None] + 1, 1 / (1 + mean)).sum(axis=0)
        total += np.log(np.trapezoid(np.exp(logs + stats.norm.logpdf(grid, scale=sd)), grid))
    assert points["fit"]["loglik"] == pytest.approx(total, abs=1e-6)


@pytest.mark.slow
def test_a_structure_of_effects_of_one_file(quick, extended):
    frame = trial(trees=40)
    sentence = "yield = rain + soil; each season (walk): intercept + soil"
    d = through_every_command(quick, frame, sentence, "yield = rain; each season: intercept")
    part = d["random"][0]
    g = np.array(part["covariance"])
    steps = np.tril(np.ones(g.shape))
    np.testing.assert_allclose(g, g[0, 0] * steps @ steps.T, rtol=1e-9)
    z = np.column_stack([np.ones(len(frame)), *(frame["soil"] == t[5:-1] for t in part["terms"][1:])]).astype(float)
    same = frame["season"].to_numpy()[:, None] == frame["season"].to_numpy()[None, :]
    v = residual(frame, None, d["residual"]) + (z @ g @ z.T) * same
    x = np.column_stack([np.ones(len(frame)), frame["rain"], z[:, 1:]])
    assert d["fit"]["deviance"] == pytest.approx(dense.deviance(frame["yield"].to_numpy(), x, v, True), abs=1e-6)


@pytest.mark.slow
def test_a_structure_of_residuals_of_one_file(quick, extended):
    frame = trial(trees=40)
    sentence = "yield = rain + soil; each season: intercept; within tree: halving(week)"
    d = through_every_command(quick, frame, sentence, "yield = rain; each season: intercept")
    time, tree = (frame[c].to_numpy() for c in ("week", "tree"))
    r = np.where(tree[:, None] == tree, 0.5 ** np.abs(time[:, None] - time), 0.0) * d["residual"]["variance"]
    season = frame["season"].to_numpy()
    v = r + d["random"][0]["covariance"][0][0] * (season[:, None] == season)
    levels = [row["term"][5:-1] for row in d["fixed"] if row["term"].startswith("soil")]
    x = np.column_stack([np.ones(len(frame)), frame["rain"], *(frame["soil"] == level for level in levels)]).astype(
        float
    )
    assert d["fit"]["deviance"] == pytest.approx(dense.deviance(frame["yield"].to_numpy(), x, v, True), abs=1e-6)
    refused = quick("fit", "t.csv", "yield = rain; within tree: halving", "--json")
    assert refused.code == 3 and "halving(week)" in refused.err


@pytest.mark.slow
def test_a_structure_of_residuals_with_two_parameters(quick, extended):
    frame = trial(trees=40, weeks=(1, 2, 3, 5, 6, 9), keep=0.9)
    r, time = np.random.default_rng(8), frame["week"].to_numpy()
    same = frame["tree"].to_numpy()[:, None] == frame["tree"].to_numpy()
    apart = np.abs(time[:, None] - time[None, :]).astype(float)
    truth = np.where(same, 0.8 * np.exp(-apart / 4.0), 0.0)
    np.fill_diagonal(truth, 1.0)
    frame["yield"] = frame["rain"] + 2 * np.linalg.cholesky(truth) @ r.normal(size=len(frame))
    sentence = "yield = rain + soil; each season: intercept; within tree: nugget(week)"
    d = through_every_command(quick, frame, sentence, "yield = rain; each season: intercept")
    p, season = d["residual"]["parameters"], frame["season"].to_numpy()
    v = np.where(same, p["share"] * np.exp(-apart / p["reach"]), 0.0)
    np.fill_diagonal(v, 1.0)
    v = v * d["residual"]["variance"] + d["random"][0]["covariance"][0][0] * (season[:, None] == season)
    levels = [row["term"][5:-1] for row in d["fixed"] if row["term"].startswith("soil")]
    x = np.column_stack([np.ones(len(frame)), frame["rain"], *(frame["soil"] == level for level in levels)]).astype(
        float
    )
    assert d["fit"]["deviance"] == pytest.approx(dense.deviance(frame["yield"].to_numpy(), x, v, True), abs=1e-6)
    rows = {r["parameter"]: r for r in quick("intervals", "m", "--json").json["parameters"]}
    assert rows["share"]["low"] < 0.8 < rows["share"]["high"] and rows["reach"]["low"] < 4 < rows["reach"]["high"]
    drawn = quick("sample", "m", "--prior", "share = normal(0.5, 0.3)", "--chains", "2", "--warmup", "300", "--draws", "300",
                  "--keep", "m.parquet", "--json").json  # fmt: skip
    made = {r["parameter"]: r for r in drawn["parameters"]}
    assert made["share"]["low"] < p["share"] < made["share"]["high"]
    kept = quick("components", "m", "--posterior", "m.parquet", "--json").json["components"]
    assert {"share", "reach"} <= {r["term"] for r in kept}
