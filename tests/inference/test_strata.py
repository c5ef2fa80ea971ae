"""Which units a test's error comes from, and how large effects are."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard.classical.anova import anova
from classical.test_anova import SPLIT, split_plot


def terms_of(sentence, frame, **options):
    return {t["term"]: t for t in bo.fit(sentence, frame).terms(**options).tests}


def test_a_split_plot_has_its_strata():
    made = terms_of(SPLIT, split_plot())
    assert [t["stratum"] for t in made.values()] == ["water in block", "rows", "rows"]
    errors = {r["source"]: [e["source"] for e in r["error"]] for r in anova(bo.fit(SPLIT, split_plot()).core)["rows"]}
    for term, t in made.items():
        assert errors[term] == [{"rows": "residual"}.get(t["stratum"], t["stratum"])]


def test_strata_do_not_depend_on_rows_labels_or_scale():
    frame = split_plot(drop=9)
    frame["dew"] = np.random.default_rng(3).normal(size=len(frame))
    sentence = SPLIT.replace("= cross", "= dew + cross").replace("block: intercept;", "block: intercept + dew;")
    one = {k: t["stratum"] for k, t in terms_of(sentence, frame).items()}
    other = frame.sample(frac=1, random_state=2).assign(
        dew=lambda f: 1000 * f.dew, block=lambda f: "b" + f.block.astype(str)
    )
    assert {k: t["stratum"] for k, t in terms_of(sentence, other).items()} == one
    assert one["dew"] == "block: dew" and one["water"] == "water in block"


def test_sizes_follow_from_f_and_agree_with_the_classical_table():
    frame = split_plot()
    made = terms_of(SPLIT, frame, effect_sizes=True)
    classical = {r["source"]: r for r in anova(bo.fit(SPLIT, frame).core)["rows"]}
    for term, t in made.items():
        assert t["eta_squared_partial"] == pytest.approx(classical[term]["eta_squared_partial"], rel=1e-5)
        assert t["omega_squared_partial"] == pytest.approx(classical[term]["omega_squared_partial"], rel=1e-4)
    assert "eta_squared_partial" not in terms_of(SPLIT, frame)["water"]


def test_the_change_of_r2_is_that_between_fits():
    frame = split_plot()
    frame["dew"] = np.random.default_rng(3).normal(size=len(frame))
    frame["kilos"] += frame.dew
    change = terms_of("kilos = dew + water; each block: intercept", frame, effect_sizes=True)["dew"][
        "r2_marginal_change"
    ]
    two = [
        bo.fit(s, frame).components()["r2"]["marginal"]
        for s in ("kilos = dew + water; each block: intercept", "kilos = water; each block: intercept")
    ]
    assert change == pytest.approx(two[0] - two[1])
    crossed = terms_of(SPLIT, pd.DataFrame(split_plot()), effect_sizes=True)["water"]["r2_marginal_change"]
    clauses = SPLIT.partition(";")[2]
    two = [
        bo.fit(f"kilos = {fixed};{clauses}", split_plot()).components()["r2"]["marginal"]
        for fixed in ("water + variety", "variety")
    ]
    assert crossed == pytest.approx(two[0] - two[1])
