"""Predictions against the mixed-model equations written out, and rows whose outcome is missing."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

from bold_orchard.fitting import fit
from bold_orchard.inference.algebra import is_singular, write_out
from bold_orchard.inference.predict import predict
from bold_orchard.table.table import Table
from test_structures import trial, write_matrix


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


def test_the_predict_command_and_the_matrices(orchard, harvest):
    model = "yield = centre(rain); each orchard: intercept; each tree in orchard: intercept"
    assert orchard("fit", "harvest.csv", model, "--missing", "-999", "--save", "m").code == 0
    d = orchard("predict", "m", "--json", "--csv", "p.csv").json
    assert len(d["rows"]) == 1440 and all(r["predicted"] is not None for r in d["rows"])
    missing = [r for r in d["rows"] if r["yield"] is None]
    assert len(missing) == 13 and all(r["residual"] is None for r in missing)
    table = pd.read_csv(orchard.folder / "p.csv")
    assert list(table.columns[-6:]) == ["predicted", "se", "low", "high", "predicted_average", "residual"]
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
