"""Rows without an outcome, predicted given their unit's observed errors: against the conditional distribution of all rows written out."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from builders import residual, trial


def frame_of(seed=3):
    frame = trial(seed, trees=30, weeks=(1, 2, 3, 5, 6), keep=0.9)
    r, codes = np.random.default_rng(seed), pd.factorize(frame["tree"])[0]
    frame["yield"] += 2 * r.normal(size=codes.max() + 1)[codes]
    lost = r.random(len(frame)) < 0.15
    return frame.assign(known=~lost, truth=frame["yield"], **{"yield": frame["yield"].where(~lost)})


SENTENCES = [
    "yield = rain; within tree: ar1(week)",
    "yield = rain + soil; each orchard: intercept + rain; within tree: exchangeable",
    "yield = rain; within tree: unstructured(week)",
    "yield = rain; each season: intercept; within tree: toeplitz(week)",
    "yield = rain; each orchard: intercept; within tree: ar1(week); spread = soil",
    "yield = rain; each orchard: intercept; within tree: exponential(week)",
]


def by_hand(fit, frame):
    """Prediction and its two variances of every row without an outcome, from V of all rows."""
    d = fit.result.to_dict()
    x = np.column_stack([np.ones(len(frame)), *(
        frame["rain"] if t == "rain" else (frame["soil"] == t[5:-1]).astype(float) for t in [r["term"] for r in d["fixed"]][1:])])  # fmt: skip
    v = residual(frame, "tree", d["residual"])
    r = v.copy()
    for part in d["random"]:
        z = np.column_stack([np.ones(len(frame)), frame["rain"]][: len(part["terms"])])
        names = frame[part["group"]].astype(str).to_numpy()
        v = v + (z @ np.array(part["covariance"]) @ z.T) * (names[:, None] == names)
    o, t = np.flatnonzero(frame["known"]), np.flatnonzero(~frame["known"])
    vi = np.linalg.inv(v[np.ix_(o, o)])
    m = np.linalg.inv(x[o].T @ vi @ x[o])
    b = m @ x[o].T @ vi @ frame["truth"].to_numpy()[o]
    c = vi @ v[np.ix_(o, t)]
    mean = x[t] @ b + c.T @ (frame["truth"].to_numpy()[o] - x[o] @ b)
    away = x[t] - c.T @ x[o]
    whole = np.diag(v)[t] - (v[np.ix_(o, t)] * c).sum(axis=0) + np.einsum("ip,pq,iq->i", away, m, away)
    own = np.diag(r)[t] - (r[np.ix_(o, t)] * np.linalg.solve(r[np.ix_(o, o)], r[np.ix_(o, t)])).sum(axis=0)
    return t, mean, whole, own


@pytest.mark.parametrize("sentence", SENTENCES)
def test_it_is_the_conditional_distribution(sentence):
    frame = frame_of()
    fit = bo.fit(sentence, frame)
    rows = fit.predict().to_frame()
    t, mean, whole, own = by_hand(fit, frame)
    assert (
        rows["given_neighbours"].to_numpy()[t].all() and not rows["given_neighbours"].to_numpy()[frame["known"]].any()
    )
    np.testing.assert_allclose(rows["predicted"].to_numpy()[t], mean, rtol=1e-6, atol=1e-7)
    np.testing.assert_allclose(rows["se"].to_numpy()[t] ** 2, whole - own, rtol=1e-5, atol=1e-7)
    wide = fit.predict(new_observation=True).to_frame()
    ratio = (wide["high"] - wide["low"]).to_numpy()[t] / (rows["high"] - rows["low"]).to_numpy()[t]
    np.testing.assert_allclose(ratio, np.sqrt(whole / (whole - own)), rtol=1e-5)
    assert any("given the observed errors of their tree" in n for n in fit.predict().to_dict()["notes"])


def test_neighbours_foretell_better():
    frame = frame_of()
    fit = bo.fit("yield = rain; within tree: exchangeable", frame)
    rows, lost = fit.predict().to_frame(), ~frame["known"].to_numpy()
    near = np.std(rows["predicted"].to_numpy()[lost] - frame["truth"].to_numpy()[lost])
    far = np.std(rows["predicted_average"].to_numpy()[lost] - frame["truth"].to_numpy()[lost])
    assert near < 0.85 * far


def test_new_rows_of_known_units_and_the_same_time():
    frame = frame_of()
    fit = bo.fit("yield = rain; each orchard: intercept; within tree: ar1(week)", frame)
    seen = frame[frame["known"]].iloc[:3]
    new = pd.concat([seen.assign(week=[4, 7, 8]), seen, seen.iloc[:1].assign(tree="new tree")], ignore_index=True).drop(
        columns=["yield", "truth"]
    )
    rows = fit.predict(new).to_frame()
    assert list(rows["given_neighbours"]) == [True] * 6 + [False]
    # a second look at the same time has the same error, so it is foretold as it was seen
    np.testing.assert_allclose(rows["predicted"][3:6], seen["truth"], atol=1e-6)
    lost = seen.assign(**{"yield": np.nan, "known": False}, week=[4, 7, 8])
    _, mean, _, _ = by_hand(fit, pd.concat([frame[frame["known"]], lost], ignore_index=True))
    np.testing.assert_allclose(rows["predicted"][:3], mean, rtol=1e-6)


def test_rows_with_an_outcome_and_independent_errors_stay_as_they_are():
    frame = frame_of()
    plain = bo.fit("yield = rain; each tree: intercept", frame).predict().to_frame()
    assert "given_neighbours" not in plain.columns
    fit = bo.fit("yield = rain; each orchard: intercept; within tree: ar1(week)", frame)
    rows, d = fit.predict(frame[frame["known"]].reset_index(drop=True)).to_frame(), fit.result
    assert "given_neighbours" not in rows.columns
    effects = {g["level"]: g["effects"]["intercept"] for g in fit.groups().to_dict()["groups"][0]["rows"]}
    known = frame[frame["known"]]
    by_effects = d.fixed[0].estimate + d.fixed[1].estimate * known["rain"] + known["orchard"].astype(str).map(effects)
    np.testing.assert_allclose(rows["predicted"], by_effects, rtol=1e-8)


def test_the_document_and_the_page(quick):
    frame_of().drop(columns=["truth", "known"]).to_csv(quick.folder / "t.csv", index=False)
    quick("fit", "t.csv", "yield = rain; within tree: ar1(week)", "--save", "m")
    rows = quick("predict", "m", "--json").json["rows"]
    assert {r["given_neighbours"] for r in rows} == {True, False}
    assert "given the observed errors of their tree too" in " ".join(quick("predict", "m").out.split())
    assert (
        quick("predict", "m", "--csv", "p.csv").code == 0
        and "given_neighbours" in (quick.folder / "p.csv").read_text().splitlines()[0]
    )


def test_rows_that_cannot_be_told_are_counted_in_a_note(monkeypatch):
    from bold_orchard.inference.prediction import neighbours

    frame = frame_of()
    fit = bo.fit("yield = rain; within tree: ar1(week)", frame)
    monkeypatch.setattr(neighbours, "MOST_TOGETHER", 3)
    predicted = fit.predict()
    given, lost = predicted.to_frame()["given_neighbours"].to_numpy(dtype=bool), ~frame["known"].to_numpy()
    observed = frame.groupby("tree")["known"].transform("sum").to_numpy() > 0
    alone = int((lost & observed & ~given).sum())
    assert alone > 0 and given.any()
    assert any(
        n.startswith(f"{alone} rows without an outcome are predicted without the observed")
        for n in predicted.to_dict()["notes"]
    )
