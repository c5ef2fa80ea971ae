"""Hard designs: an answer that holds or one honest line; no crash, no warning, no wait, no optimum passed over."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.inference.fit import Settings, fit
from dense import deviance
from hard import case, trouble

FOUND = [
    29,
    39,
    1217,
    1301,
    1325,
    5177,
    5330,
    5512,
    5729,
    5793,
    5848,
]  # once a crash, a wait, or an optimum passed over


@pytest.mark.parametrize("seed", [*FOUND, *range(5000, 5020)])
@pytest.mark.slow
def test_random_hard_designs(seed):
    assert trouble(seed, starts=8) is None


@pytest.mark.slow
def test_several_maxima_are_told():
    """Sixteen 0/1 rows: another search ends elsewhere, and the page says so."""
    _, sentence, table, settings = case(5230)
    made = fit(sentence, table, settings)
    told = [w for w in made.result["warnings"] if w.code == "several maxima"]
    assert made.converged and len(told) == 1 and "more than one maximum" in told[0]
    other, gap = made.model.found.rival, 2 * float(told[0].split("another, ")[1].split(" ")[0])
    assert other - made.evaluation.deviance == pytest.approx(gap, rel=0.05)


def uneven(seed, spread=6.0):
    r = np.random.default_rng(seed)
    g = np.repeat(np.arange(11), 4)
    frame = pd.DataFrame(
        {"g": g, "h": np.arange(44) % 3, "x": r.normal(size=44), "w": np.exp(spread * r.normal(size=44))}
    )
    return frame.assign(y=r.normal(size=11)[g] + frame["x"] + r.normal(size=44) / np.sqrt(frame["w"]))


@pytest.mark.parametrize("seed", range(6))
def test_extreme_weights_hide_no_better_optimum(seed):
    """Against a brute search of the dense likelihood over the two variances."""
    frame = uneven(seed)
    made = fit(
        "y = x; each g (identity): intercept",
        Table(frame, "t", 44),
        Settings(method="ml", options=Options(weights="w")),
    )
    y, x = frame["y"].to_numpy(), np.column_stack([np.ones(44), frame["x"]])
    same = frame["g"].to_numpy()[:, None] == frame["g"].to_numpy()
    weights = frame["w"].to_numpy()

    def profiled(ratio):
        v = np.diag(1.0 / weights) + ratio * same
        inverse = np.linalg.inv(v)
        b = np.linalg.solve(x.T @ inverse @ x, x.T @ inverse @ y)
        s2 = (y - x @ b) @ inverse @ (y - x @ b) / 44
        return deviance(y, x, s2 * v, False)

    best = min(profiled(10.0**k) for k in np.linspace(-8, 8, 321))
    assert made.converged and made.evaluation.deviance <= best + 1e-6


@pytest.mark.parametrize(("change", "words"), [
    ({"y": 1e-100}, "for example rescale(y, 1e-"), ({"x": 1e80}, "another unit"), ({"w": np.array([1e-20, 1e10] * 22)}, "the weights run from"),
])  # fmt: skip
def test_sizes_beyond_the_arithmetic_are_one_line(orchard, change, words):
    frame = uneven(1)
    for column, factor in change.items():
        frame[column] = frame[column] * factor if column != "w" else factor
    frame.to_csv(orchard.folder / "t.csv", index=False)
    done = orchard("fit", "t.csv", "y = x; each g: intercept", "--weights", "w")
    assert done.code == 3 and words in done.err and done.err.count("\n") == 1


def test_covariates_far_from_zero_are_answered_with_the_centred_sentence(orchard):
    frame = uneven(2).assign(x=lambda d: d["x"] + 1e9, h=lambda d: d["h"].map("h{}".format))
    frame.to_csv(orchard.folder / "t.csv", index=False)
    for sentence, offer in (("y = x*h + x + h", "y = centre(x)*h + centre(x) + h"), ("y = power(x, 2)", "y = power(centre(x), 2)"),
                            ("y = h; each g: intercept + x", "y = h; each g: intercept + centre(x)")):  # fmt: skip
        done = orchard("fit", "t.csv", sentence)
        assert done.code == 3 and done.err.rstrip().endswith(f"write: {offer}")
        assert orchard("fit", "t.csv", offer).code == 0
    assert orchard("fit", "t.csv", "y = x; each g: intercept").code == 0  # a main effect is centred inside


@pytest.mark.parametrize("seed", [0, 2, 5, 6, 14, 31, 46, 53, 66, 106, 130])
def test_a_unit_that_the_fixed_part_takes_up_is_told_wherever_rounding_leads_the_search(seed):
    """The likelihood is flat; searches ended with "converged", "no step" or "the slope is not zero" as the last bits fell."""
    r = np.random.default_rng(seed)
    levels, n = r.integers(2, 7), int(r.integers(30, 200))
    g, rain = r.integers(0, levels, n), r.normal(size=n)
    crop = 1 + 0.4 * rain + r.normal(size=levels)[g] + r.normal(size=n)
    rows = {
        "orchard": [f"o{i}" for i in g],
        "half": [f"h{i}" for i in g],
        "rain": rain,
        "crop": crop * 10.0 ** float(r.integers(-2, 3)),
    }
    made = fit("crop = rain + half; each orchard: intercept", Table(rows, "t.csv", n))
    assert not made.converged and not made.result["convergence"]["identified"]
    assert "cannot tell the variances and covariances of orchard (intercept) apart" in " ".join(made.result["warnings"])
