"""What is constant in its unit has no part within it, to the last digit: not the rounding of a mean."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard.data import pieces
from bold_orchard.errors import OrchardError

SPLIT = "y = split(bees, orchard); each orchard: intercept"


@pytest.fixture
def frame():
    """Seven rows an orchard: sevenths of a sum of equal numbers are rarely that number again."""
    r = np.random.default_rng(0)
    orchard = np.repeat(np.arange(20), 7)
    bees = (0.1 * r.normal(size=20) + 0.1)[orchard]
    assert (np.bincount(orchard, bees) / 7 != bees[::7]).any()
    y = 2.0 + 3.0 * bees + r.normal(size=20)[orchard] + r.normal(size=len(orchard))
    return pd.DataFrame({"orchard": [f"o{i}" for i in orchard], "bees": bees, "y": y}).sample(frac=1, random_state=1)


@pytest.mark.parametrize("family", ["gaussian", "gamma"])
def test_the_part_within_has_no_estimate_and_the_rest_is_the_model_without_it(frame, family):
    frame["y"] = np.exp(0.1 * frame["y"]) if family == "gamma" else frame["y"]
    one, two = (bo.fit(s, frame, family=family).to_dict() for s in (SPLIT, "y = bees; each orchard: intercept"))
    _, within, between = one["fixed"]
    assert within["term"] == "centre(bees, orchard)" and within["estimate"] is None
    assert between["estimate"] == pytest.approx(two["fixed"][1]["estimate"], rel=1e-6)
    assert one["fit"]["loglik"] == pytest.approx(two["fit"]["loglik"], abs=1e-8)
    assert any("bees is the same in all rows of one orchard" in n and "write bees" in n for n in one["notes"])
    assert not any("fully determined" in n for n in one["notes"])


def test_a_slope_on_it_is_refused(frame):
    with pytest.raises(OrchardError, match="does not vary inside any orchard"):
        bo.fit("y = bees; each orchard: intercept + centre(bees, orchard)", frame)


def test_parts_that_no_memory_holds_at_once_say_the_same(frame, tmp_path, monkeypatch):
    monkeypatch.setattr(pieces, "LEAST", 1)
    monkeypatch.setattr(pieces, "ROWS", 30)
    (tmp_path / "parts").mkdir()
    for k in range(3):
        frame[k::3].to_parquet(tmp_path / "parts" / f"{k}.parquet")
    one, two = bo.fit(SPLIT, frame).to_dict(), bo.fit(SPLIT, tmp_path / "parts", memory=20).to_dict()
    assert two["reading"]["engine"] == "pieces" and any("write bees" in n for n in two["notes"])
    assert [r["estimate"] is None for r in two["fixed"]] == [False, True, False]
    assert two["fixed"][2]["estimate"] == pytest.approx(one["fixed"][2]["estimate"], rel=1e-8)


def test_the_page_says_what_each_part_compares():
    r = np.random.default_rng(2)
    orchard = np.repeat(np.arange(12), 10)
    rain = r.normal(size=12)[orchard] + r.normal(size=120)
    d = pd.DataFrame(
        {"orchard": [f"o{i}" for i in orchard], "rain": rain, "y": rain + r.normal(size=120) * np.exp(0.2 * rain)}
    )
    fit = bo.fit("y = split(rain, orchard); each orchard: intercept; spread = split(rain, orchard)", d)
    words, (_, within, between) = " ".join(str(fit).split()), fit.to_dict()["fixed"]
    assert f"Between rows of one orchard that differ by 1 in rain, y differs by {within['estimate']:.4g}"[:70] in words
    assert "between levels of orchard whose means of rain differ by 1, by" in words and between["estimate"] is not None
    assert "Rows of one orchard with 1 more rain have" in words
    plain = " ".join(str(bo.fit("y = rain + mean(rain, orchard); each orchard: intercept", d)).split())
    assert "Between rows" not in plain
