"""Rows left out: scores are those of refits done by hand, their densities written out or integrated by brute force."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import integrate, stats

import bold_orchard as bo
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.inference.prediction.predict import linear_predictor
from bold_orchard.progress import silent
from bold_orchard.tables import table
from bold_orchard.validation.leave_out_rows import leave_out_rows
from builders import inspections, trial


def folds_of(n, folds, repeats, seed):
    rng = np.random.default_rng(seed)
    return [rng.permutation(np.arange(n) % folds) for _ in range(repeats)]


def test_ordinary_regression_is_scored_by_its_textbook_predictive_variance():
    frame, r = trial(trees=6), np.random.default_rng(2)
    frame["yield"] = frame["rain"] + r.normal(size=len(frame))
    fit = bo.fit("yield = rain", frame, name="m")
    (found,) = leave_out_rows([fit.core], len(frame), 1, 3, silent)
    x, y = np.column_stack([np.ones(len(frame)), frame["rain"]]), frame["yield"].to_numpy()
    for i in range(len(y)):
        keep = np.arange(len(y)) != i
        b, rss = np.linalg.lstsq(x[keep], y[keep], rcond=None)[:2]
        s2 = rss[0] / (keep.sum() - 2)
        sd = np.sqrt(s2 * (1 + x[i] @ np.linalg.inv(x[keep].T @ x[keep]) @ x[i]))
        assert found.log_scores[i] == pytest.approx(stats.norm(x[i] @ b, sd).logpdf(y[i]), rel=1e-7)
    assert found.document("rows")["se"] == pytest.approx(np.sqrt(len(y)) * found.log_scores.std(ddof=1))


@pytest.mark.parametrize(
    "sentence", ["yield = rain; each tree: intercept", "yield = rain; each orchard: intercept; within tree: ar1(week)"]
)
def test_rows_of_known_units_are_foretold_by_what_the_fold_knows_of_them(sentence):
    frame = trial(trees=16)
    frame["orchard"] = frame["orchard"].astype(str)
    fit = bo.fit(sentence, frame, name="m")
    (found,) = leave_out_rows([fit.core], 4, 2, 5, silent)
    scores, squares = [], []
    for own in folds_of(len(frame), 4, 2, 5):
        score, square = np.zeros((2, len(frame)))
        for fold in range(4):
            made = bo.fit(sentence, frame[own != fold])
            at = made.predict(frame[own == fold], new_observation=True, confidence=0.9).to_frame()
            df = (own != fold).sum() - 2
            sd = (at["high"] - at["low"]) / 2 / stats.t.ppf(0.95, df)
            score[own == fold] = stats.norm(at["predicted"], sd).logpdf(frame["yield"][own == fold])
            square[own == fold] = (frame["yield"][own == fold].to_numpy() - at["predicted"]) ** 2
        scores.append(score)
        squares.append(square)
    assert found.log_scores == pytest.approx(np.mean(scores, axis=0), rel=1e-6)
    assert found.document("rows")["rmse"] == pytest.approx(np.sqrt(np.mean(squares)), rel=1e-6)


@pytest.mark.few(1)
@pytest.mark.parametrize(("outcome", "family", "law"), [
    ("aphids", "poisson", lambda eta, row: stats.poisson.pmf(row["aphids"], np.exp(eta))),
    ("scab of fruits", None, lambda eta, row: stats.binom.pmf(row["scab"], row["fruits"], 1 / (1 + np.exp(-eta)))),
])  # fmt: skip
def test_densities_of_counts_are_integrals_over_what_is_not_known(outcome, family, law):
    frame = inspections(n=160, units=12)
    sentence = f"{outcome} = spray; each orchard: intercept"
    fit = bo.fit(sentence, frame, family=family, name="m")
    (found,) = leave_out_rows([fit.core], 5, 1, 2, silent)
    (own,) = folds_of(len(frame), 5, 1, 2)
    made = bo.fit(sentence, frame[own != 0], family=family)

    eta, variance = linear_predictor(made.core, table(frame[own == 0]))
    for k, i in enumerate(np.flatnonzero(own == 0)[:12]):
        sd = np.sqrt(variance[k])
        exact = integrate.quad(
            lambda u, k=k, i=i, sd=sd: law(u, frame.iloc[i]) * stats.norm.pdf(u, eta[k], sd),
            eta[k] - 9 * sd,
            eta[k] + 9 * sd,
        )[0]
        assert found.log_scores[i] == pytest.approx(np.log(exact), abs=1e-6)


@pytest.mark.few(1)
@pytest.mark.parametrize("family", ["ordinal", "binomial", "gamma"])
def test_every_family_has_scores(family):
    frame = inspections(n=150, units=10)
    outcome = {"ordinal": "grade", "binomial": "infected", "gamma": "weight"}[family]
    fit = bo.fit(f"{outcome} = rain; each orchard: intercept", frame, family=family, name="m")
    made = bo.compare(
        fit,
        bo.fit(f"{outcome} = intercept; each orchard: intercept", frame, family=family, name="e"),
        leave_out="rows",
        folds=3,
    )
    for one in made.leave_out:
        scores = np.array([level["log_score"] for level in one["levels"]])
        assert (
            len(scores) == 150
            and np.isfinite(scores).all()
            and one["log_score"] == pytest.approx(scores.sum())
            and one["rmse"] > 0
        )


@pytest.mark.slow
def test_the_page_and_the_slips(quick):
    frame = trial(trees=10)
    frame.to_csv(quick.folder / "t.csv", index=False)
    for name, sentence in {
        "a": "yield = intercept; each tree: intercept",
        "b": "yield = rain; each tree: intercept",
    }.items():
        assert quick("fit", "t.csv", sentence, "--save", name).code == 0
    done = quick("compare", "a", "b", "--leave-out", "rows", "--folds", 3, "--repeats", 2, "--figure", "c.png")
    assert (
        done.code == 0 and "Rows not seen, in 3 folds" in done.out and (quick.folder / "c.png").stat().st_size > 10_000
    )
    one, two = (
        quick("compare", "a", "b", "--leave-out", "rows", "--folds", 3, "--seed", s, "--json").json["leave_out"]
        for s in (1, 2)
    )
    assert one[0]["log_score"] != two[0]["log_score"]
    assert quick("compare", "a", "b", "--leave-out", "rows", "--folds", 1).code == 2
    assert quick("compare", "a", "b", "--leave-out", "rows", "--repeats", 0).code == 2
    assert quick("compare", "a", "b", "--leave-out", "tree", "--repeats", 2).code == 2
    assert "or rows" in quick("compare", "a", "b", "--repeats", 2).err
    with pytest.raises(UsageError):
        bo.compare(
            bo.fit("yield = rain", frame, name="a"),
            bo.fit("yield = intercept", frame, name="b"),
            leave_out="rows",
            folds=10**6,
        )
    lonely = frame.assign(kind=["odd", *["usual"] * (len(frame) - 1)])
    with pytest.raises(OrchardError, match="leave out fewer at a time"):
        bo.compare(
            bo.fit("yield = kind", lonely, name="a"),
            bo.fit("yield = intercept", lonely, name="b"),
            leave_out="rows",
            folds=3,
        )
