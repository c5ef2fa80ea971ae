"""Predictions against the mixed-model equations written out, and rows whose outcome is missing."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard import threads
from bold_orchard.crossproducts import assemble
from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError
from bold_orchard.inference.equations import is_singular, write_out
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.inference.prediction import in_runs
from bold_orchard.inference.prediction import predict as predict_module
from bold_orchard.inference.prediction.predict import predict
from builders import trial, write_matrix
from crossings import SENTENCES, crossed


def table_of(frame):
    return Table(frame, "t", len(frame))


@pytest.mark.parametrize("sentence", [
    "yield = rain; each orchard: intercept + rain",
    "yield = rain + soil; each tree: intercept; each orchard: intercept + rain",
    "yield = rain; each tree in orchard: intercept; each orchard (diagonal): intercept + rain; each season: intercept",
    "yield = rain; each tree: intercept; within tree: ar1(week); spread = soil",
])  # fmt: skip
def test_predictions_equal_the_equations(sentence):
    """Prediction w'(b, u) with variance w' C^-1 w (Henderson 1975), C and its inverse written out in full."""
    frame = trial()
    made = fit(sentence, table_of(frame))
    p = predict(made, table_of(frame))
    algebra = write_out(made)
    w = np.hstack([algebra["X"].values, algebra["Z"].values])
    inverse = np.linalg.inv(algebra["equations"].values)
    if is_singular(algebra["G"].values):  # the lower equations were multiplied by G
        size = len(made.result["fixed"])
        inverse[:, size:] = inverse[:, size:] @ algebra["G"].values
    np.testing.assert_allclose(p.predicted, w @ algebra["solution"].values[:, 0], atol=1e-8)
    np.testing.assert_allclose(p.se, np.sqrt(np.einsum("ij,jk,ik->i", w, inverse, w)), rtol=1e-7)
    np.testing.assert_allclose(p.residual, frame["yield"] - p.predicted)
    fixed = [r["estimate"] for r in made.result["fixed"]]
    np.testing.assert_allclose(algebra["solution"].values[: len(fixed), 0], fixed, rtol=1e-7)


def test_new_units_get_the_average_and_their_whole_variance():
    frame = trial()
    made = fit("yield = rain; each tree: intercept", table_of(frame))
    new = pd.DataFrame({"tree": ["t1", "t99"], "rain": [2.0, 2.0]})
    p = predict(made, table_of(new))
    b = [r["estimate"] for r in made.result["fixed"]]
    c = np.array(made.result["fixed_covariance"])
    x = np.array([1.0, 2.0])
    assert p.predicted[1] == pytest.approx(x @ b)
    assert p.se[1] == pytest.approx(np.sqrt(x @ c @ x + made.result["random"][0]["covariance"][0][0]))
    assert p.known[:, 0].tolist() == [1, 0] and p.se[0] < p.se[1]
    assert np.isnan(p.residual).all()


def test_a_saved_transformation_is_used_for_new_rows():
    frame = trial()
    made = fit("yield = zscore(rain) + spline(week, 3) + split(rain, orchard); each tree: intercept", table_of(frame))
    whole = predict(made, table_of(frame))
    part = predict(made, table_of(frame.iloc[[3, 8, 20]]))
    np.testing.assert_allclose(part.predicted, whole.predicted[[3, 8, 20]], rtol=1e-9)


def test_a_missing_outcome_is_predicted_from_relatives(tmp_path, monkeypatch):
    """Two measures on related trees, covariances given, one outcome missing: the classical selection-index answer."""
    monkeypatch.chdir(tmp_path)
    kin = np.array([[1, 0, 0.5, 0.6], [0, 1, 0.5, 0.1], [0.5, 0.5, 1, 0.4], [0.6, 0.1, 0.4, 1.0]])
    write_matrix(tmp_path / "kin.csv", list("abcd"), 4.0 * kin)
    frame = pd.DataFrame({"tree": list("aabbccd"), "yield": [10.0, 11, 14, 13, 14.5, 15.5, np.nan]})
    made = fit('yield = intercept; each tree (given units "kin.csv"): intercept', table_of(frame))
    assert made.result["rows"]["used"] == 6
    p = predict(made, table_of(frame))
    z = np.eye(4)[[0, 0, 1, 1, 2, 2]]
    v = z @ (4 * kin) @ z.T + made.evaluation.sigma2 * np.eye(6)
    one, vi = np.ones(6), np.linalg.inv(v)
    b = (one @ vi @ frame["yield"][:6]) / (one @ vi @ one)
    u = 4 * kin[3] @ z.T @ vi @ (frame["yield"][:6] - b)
    assert p.predicted[6] == pytest.approx(b + u, rel=1e-9)
    assert abs(u) > 0.01


@pytest.mark.slow
def test_the_predict_command_and_the_matrices(orchard, harvest):
    model = "yield = centre(rain); each orchard: intercept; each tree in orchard: intercept"
    assert orchard("fit", "harvest.csv", model, "--missing", "-999", "--save", "m").code == 0
    d = orchard("predict", "m", "--json", "--csv", "p.csv").json
    assert len(d["rows"]) == 1440 and all(r["predicted"] is not None for r in d["rows"])
    missing = [r for r in d["rows"] if r["yield"] is None]
    assert len(missing) == 13 and all(r["residual"] is None for r in missing)
    table = pd.read_csv(orchard.folder / "p.csv")
    assert list(table.columns[-7:]) == [
        "predicted",
        "se",
        "low",
        "high",
        "predicted_average",
        "residual",
        "units_known",
    ]
    done = orchard("show", "m", "--matrices", "algebra", "--level", "Barrow")
    assert done.code == 0, done.err
    read = {f: pd.read_csv(orchard.folder / "algebra" / f"{f}.csv", index_col=0).to_numpy() for f in
            ("X", "Z", "G", "G_inverse", "R", "R_inverse", "equations", "right_side", "solution")}  # fmt: skip
    assert read["X"].shape == (1427, 2) and read["Z"].shape == (1427, 264) and read["R"].shape == (60, 60)
    np.testing.assert_allclose(read["G"] @ read["G_inverse"], np.eye(264), atol=1e-9)
    np.testing.assert_allclose(read["equations"] @ read["solution"], read["right_side"], rtol=1e-6, atol=1e-6)
    done = orchard("show", "m", "--matrices", "algebra", "--level", "Barow")
    assert done.code == 3 and "did you mean 'Barrow'" in done.err


def test_matrices_too_large_say_why_not(orchard):
    r = np.random.default_rng(1)
    frame = pd.DataFrame({"tree": np.repeat(np.arange(2500), 2), "yield": r.normal(size=5000).round(3)})
    frame.to_csv(orchard.folder / "t.csv", index=False)
    assert orchard("fit", "t.csv", "yield = intercept; each tree: intercept", "--save", "m").code == 0
    done = orchard("show", "m", "--matrices", "algebra")
    assert done.code == 3 and "2,500 random effects" in done.err and not (orchard.folder / "algebra").exists()


@pytest.mark.slow
def test_intervals_for_new_observations_cover_them():
    """Gaussian and counts: outcomes drawn anew from the truth fall inside 95% intervals, for known and for new units."""
    from bold_orchard.design.design import Options

    r, inside, rounds = np.random.default_rng(4), {"known": [], "new": [], "counts": []}, 25
    for _ in range(rounds):
        codes, rain = r.integers(0, 20, 200), r.normal(size=240)
        u = r.normal(size=60)
        orchard = np.append(codes, np.arange(20, 60))
        y = 1 + 0.5 * rain + u[orchard] + r.normal(size=240)
        eta = 0.5 + 0.3 * rain + 0.6 * u[orchard]
        frame = pd.DataFrame({"orchard": orchard, "rain": rain, "yield": y, "moths": r.poisson(np.exp(eta))})
        table, more = (Table(part.reset_index(drop=True), "t", len(part)) for part in (frame[:200], frame[200:]))
        made = fit("yield = rain; each orchard: intercept", table)
        known, new = predict(made, table, 0.95, True), predict(made, more, 0.95, True)
        again = 1 + 0.5 * rain[:200] + u[codes] + r.normal(size=200)
        inside["known"].append(np.mean((known.low <= again) & (again <= known.high)))
        inside["new"].append(np.mean((new.low <= y[200:]) & (y[200:] <= new.high)))
        counts = predict(
            fit("moths = rain; each orchard: intercept", table, Settings(options=Options(family="poisson"))),
            more,
            0.95,
            True,
            1,
        )
        moths = frame["moths"].to_numpy()[200:]
        inside["counts"].append(np.mean((counts.low <= moths) & (moths <= counts.high)))
    assert all(0.925 < np.mean(v) < 0.985 for v in inside.values()), {k: np.mean(v) for k, v in inside.items()}


@pytest.mark.parametrize("clause", ["spread = soil", "within tree: unstructured(week)"])
def test_a_new_observation_has_the_residual_variance_of_its_own_row(clause):
    frame = trial(trees=30, keep=0.95)
    made = fit(f"yield = rain; each orchard: intercept; {clause}", table_of(frame))
    mean, new = (predict(made, table_of(frame), 0.95, flag) for flag in (False, True))
    part = made.result["residual"]["parameters"]
    if "spread" in clause:
        log_sd = {"clay": 0.0} | {row["term"][5:-1]: row["estimate"] for row in part["spread"]}
        own = made.result["residual"]["variance"] * np.exp(2 * frame["soil"].map(log_sd))
    else:
        own = frame["week"].astype(str).map(dict(zip(part["occasions"], np.diag(part["covariance"]))))
    ratio = (new.high - new.low) / (mean.high - mean.low)
    np.testing.assert_allclose(ratio, np.sqrt((mean.se**2 + own) / mean.se**2), rtol=1e-6)
    if "week" in clause:
        with pytest.raises(OrchardError, match="week 77 was not in the fit"):
            predict(made, table_of(frame.assign(week=77)), 0.95, True)


def test_extrapolation_is_said_and_units_are_told_apart(orchard, harvest):
    orchard("fit", "harvest.csv", "yield = rain; each orchard: intercept", "--missing", "-999", "--save", "m")
    (orchard.folder / "new.csv").write_text("orchard,rain\nBarrow,60\nBarrow,900\n")
    d = orchard("predict", "m", "--new", "new.csv", "--new-observation", "--json").json
    mean = orchard("predict", "m", "--new", "new.csv", "--json").json
    assert any("1 row with rain beyond" in n for n in d["notes"])
    assert d["rows"][0]["high"] > mean["rows"][0]["high"] and d["rows"][0]["se"] == mean["rows"][0]["se"]
    (orchard.folder / "new.csv").write_text("orchard,rain\nBarrow,60\nNowhere,60\nBarrow,\n")
    rows = orchard("predict", "m", "--new", "new.csv", "--json").json["rows"]
    assert [r["units_known"] for r in rows] == ["all", "not orchard", ""] and rows[2]["predicted"] is None


@pytest.mark.parametrize("name", ["intercepts", "slopes", "three units"])
def test_cells_and_a_dense_part_predict_the_same(monkeypatch, name):
    """Units crossed with a larger one keep their cells; what those leave in the rest of each row's column is the same."""
    frame = crossed(900, 120, 25, seed=3)
    one = bo.fit(SENTENCES[name], frame).predict().table().columns
    monkeypatch.setattr(assemble, "DENSE_TAIL", 1)
    two = bo.fit(SENTENCES[name], frame).predict().table().columns
    for column in ("predicted", "se", "low", "high"):
        assert two[column] == pytest.approx(one[column], rel=1e-4, abs=1e-6)


@pytest.mark.slow
def test_runs_on_several_processors_are_in_order_and_drawn_alike(monkeypatch):
    frame = crossed(900, 60, 12, seed=4)
    frame["full"] = (frame["yield"] > 3) * 1
    sentence = "full = rain; each tree: intercept; each picker: intercept"
    made = []
    for count in (1, 3):
        monkeypatch.setattr(threads, "_kept", [count])
        monkeypatch.setattr(in_runs, "AT_ONCE", 100)
        monkeypatch.setattr(predict_module, "AT_ONCE", 100)
        fitted = bo.fit(sentence, frame, family="binomial")
        made.append([fitted.predict().table().columns, fitted.predict(new_observation=True).table().columns])
    for one, two in zip(*made):
        assert all(np.array_equal(np.asarray(one[c][:]), np.asarray(two[c][:])) for c in one)
