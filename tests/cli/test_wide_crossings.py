"""Crossings of more than twelve thousand effects, as a person meets them."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

from bold_orchard.estimation.gaussian_search import MOST_CROSSED

ROWS, TREES, PICKERS = 60_000, 15_000, 12_200
SENTENCE = "yield = rain; each tree: intercept; each picker: intercept"


@pytest.fixture
def picked(orchard):
    r = np.random.default_rng(12)
    tree, picker, rain = r.integers(0, TREES, ROWS), r.integers(0, PICKERS, ROWS), r.normal(size=ROWS)
    y = 3 + 0.4 * rain + r.normal(size=TREES)[tree] + 0.7 * r.normal(size=PICKERS)[picker] + 1.5 * r.normal(size=ROWS)
    frame = pd.DataFrame({"tree": tree, "picker": picker, "rain": rain, "yield": y})
    frame.to_parquet(orchard.folder / "picked.parquet")
    return frame


@pytest.mark.slow
def test_fitted_kept_used_and_refused_in_one_line(orchard, picked):
    done = orchard("fit", "picked.parquet", SENTENCE, "--save", "m", "--json")
    d = done.json
    levels = picked["picker"].nunique()
    assert levels > MOST_CROSSED and d["groups"][1]["levels"] == levels
    assert d["convergence"]["converged"] and d["warnings"] == []
    assert d["monte_carlo"]["signs"] >= 8 and 0 < d["monte_carlo"]["loglik"] < 0.05
    assert d["monte_carlo"]["share_of_se"] < 0.02
    assert d["fixed"][1]["estimate"] == pytest.approx(0.4, abs=4 * d["fixed"][1]["se"])
    for part, truth in zip([*d["random"], d["residual"]], (1.0, 0.7, 1.5)):
        sd = part["sd"][0] if isinstance(part["sd"], list) else part["sd"]
        assert sd == pytest.approx(truth, abs=0.03)
    page = orchard("show", "m").out
    assert f"{levels:,} effects of picker" in page and "Monte-Carlo" in page.replace("\n  ", " ")
    assert orchard("groups", "m", "--csv", "g.csv").code == 0
    groups = pd.read_csv(orchard.folder / "g.csv")
    groups = groups[groups["group"] == "picker"]
    best = groups.loc[groups["effect intercept"].idxmax()]
    own = picked[picked["picker"] == int(best["level"])]
    assert len(groups) == levels and own["yield"].mean() > picked["yield"].mean() and 0.2 < best["se intercept"] < 0.7
    new = picked.head(3).assign(tree=[0, 10**6, 1])
    new.to_csv(orchard.folder / "new.csv", index=False)
    rows = orchard("predict", "m", "--new", "new.csv", "--json").json["rows"]
    assert len(rows) == 3 and all(np.isfinite(r["se"]) for r in rows)
    assert rows[1]["se"] > max(rows[0]["se"], rows[2]["se"])  # a tree that was never seen
    for command, words in ((("intervals", "m"), "use --method wald"),):
        done = orchard(*command)
        assert done.code and done.out == "" and done.err.count("\n") == 1 and words in done.err
