"""Zeros and spread with predictors of their own, and unordered outcomes: against brute force and by relations."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest
from scipy import special

import bold_orchard as bo
from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.design.predictors import over_predictors
from bold_orchard.errors import OrchardError, SentenceError, UsageError
from bold_orchard.estimation.estimate import estimate
from bold_orchard.estimation.generalized_search import make_laplace, with_points
from bold_orchard.inference.coefficients.terms import terms
from bold_orchard.inference.comparison.nested import relation
from bold_orchard.inference.fit import Settings, fit

ZEROS = "moths = rain; zeros = rain + soil; each orchard: intercept + zeros"


def traps(seed=1, units=15, rows=14):
    r = np.random.default_rng(seed)
    n = units * rows
    o, rain, soil = np.repeat(np.arange(units), rows), r.normal(8, 1, n).round(2), r.choice(["clay", "sand"], n)
    u = r.multivariate_normal([0, 0], [[0.3, 0.15], [0.15, 0.5]], units)
    eta = 0.8 + 0.3 * (rain - 8) + u[o, 0]
    z = -0.6 + 0.3 * (rain - 8) + 0.7 * (soil == "sand") + u[o, 1]
    moths = np.where(r.random(n) < special.expit(z), 0, r.poisson(np.exp(eta)))
    logits = np.exp(np.stack([np.zeros(n), 0.4 * (rain - 8) + u[o, 0], u[o, 1]], axis=1))
    place = (r.random(n)[:, None] > (logits / logits.sum(axis=1, keepdims=True)).cumsum(axis=1)).sum(axis=1)
    return pd.DataFrame({
        "orchard": [f"o{i}" for i in o], "tree": [f"t{i % 3}" for i in range(n)], "season": [f"s{i % 6}" for i in range(n)], "rain": rain, "soil": soil,
        "moths": moths, "tries": moths + 4, "size": r.gamma(3, np.exp(eta) / 3).round(4), "taste": np.array(["bland", "sweet", "tart"])[place],
    })  # fmt: skip


FRAME = traps()


def made(sentence, frame=None, family="zero-inflated-poisson", **options):
    frame = FRAME if frame is None else frame
    method = options.pop("method", "reml")
    return fit(
        sentence, Table(frame, "t", len(frame)), Settings(method=method, options=Options(family=family, **options))
    )


def estimates(one):
    return {r.term: r.estimate for r in one.result.coefficients}


def by_hand(one, frame):
    """Laplace's log-likelihood of the zero-inflated model, orchard by orchard, by Newton's method on numbers alone."""
    b, g = estimates(one), np.array(one.result.random[0].covariance)
    eta0 = b["intercept"] + b["rain"] * frame["rain"].to_numpy()
    z0 = (
        b["zeros: intercept"]
        + b["zeros: rain"] * frame["rain"].to_numpy()
        + b["zeros: soil[sand]"] * (frame["soil"] == "sand").to_numpy()
    )
    y, codes, inverse, total = frame["moths"].to_numpy(), pd.factorize(frame["orchard"])[0], np.linalg.inv(g), 0.0
    for j in range(codes.max() + 1):
        k = codes == j

        def minus(u, k=k):
            eta, z = eta0[k] + u[0], z0[k] + u[1]
            v = y[k] * eta - np.exp(eta) - special.gammaln(y[k] + 1)
            counted = special.log_expit(-z) + v
            own = np.where(y[k] == 0, np.logaddexp(special.log_expit(z), counted), counted)
            return -own.sum() + 0.5 * u @ inverse @ u

        def curvature(u, h=1e-3, f=minus):
            e = h * np.eye(2)
            return np.array(
                [[(f(u + a + b) - f(u + a - b) - f(u - a + b) + f(u - a - b)) / (4 * h * h) for b in e] for a in e]
            )

        u = np.zeros(2)
        for _ in range(40):
            slope = np.array([(minus(u + h) - minus(u - h)) / 2e-5 for h in 1e-5 * np.eye(2)])
            u = u - np.linalg.solve(curvature(u), slope)
        total += -minus(u) - 0.5 * np.linalg.slogdet(curvature(u))[1] - 0.5 * np.linalg.slogdet(g)[1]
    return total


def test_the_likelihood_is_that_of_brute_force():
    one = made(ZEROS)
    assert one.converged
    assert one.result.fit.loglik == pytest.approx(by_hand(one, FRAME), abs=2e-5)
    assert one.result.fit.n_parameters == 8
    assert [g.largest for g in one.result.groups] == [14]


SENTENCES = [
    (ZEROS + "; each tree in orchard: intercept + zeros", "zero-inflated-poisson"),
    (ZEROS + "; each season: intercept + zeros", "hurdle-poisson"),
    ("moths = rain; zeros = rain; spread = soil; each orchard: intercept + spread", "zero-inflated-negative-binomial"),
    ("size = rain; spread = soil; each orchard: intercept + rain + spread; each season: intercept", "gamma"),
    ("censored(size, 1, 4) = rain; spread = soil; each orchard: intercept + spread", "student"),
    ("moths of tries = rain; spread = soil; each orchard: intercept + spread", "beta-binomial"),
    ("taste = rain; each orchard: intercept + rain; each season (diagonal): intercept", "nominal"),
]


@pytest.mark.few(3)
@pytest.mark.parametrize(("sentence", "family"), SENTENCES)
def test_the_gradient_is_exact(sentence, family):
    c = make_laplace(made(sentence, family=family).design)
    theta = 0.3 * np.random.default_rng(4).normal(size=len(c.bounded)) + np.where(c.bounded, 0.5, 0.0)
    point = c.at(theta, close=1e-10)
    moved = [[c.at(theta + side * h, point, 1e-10).deviance for side in (1, -1)] for h in 1e-5 * np.eye(len(theta))]
    found = np.array([(up - down) / 2e-5 for up, down in moved])
    assert point.gradient == pytest.approx(found, abs=2e-5 * (1 + np.abs(found).max()))


def test_a_part_that_depends_on_nothing_is_the_plain_model():
    plain = made("moths = rain; each orchard: intercept")
    lifted = over_predictors(plain.design, ("mean", "zeros"))
    again = estimate(lifted, plain.settings.search)
    assert -0.5 * again.evaluation.deviance == pytest.approx(plain.result.fit.loglik, abs=1e-6)
    assert again.evaluation.b[:2] == pytest.approx([r.estimate for r in plain.result.fixed], rel=1e-4)


def test_the_zeros_of_a_hurdle_are_a_binomial_model():
    both = made(
        "moths = rain; zeros = rain + soil; each orchard (diagonal): intercept + zeros", family="hurdle-poisson"
    )
    zero = made(
        "none = rain + soil; each orchard: intercept", FRAME.assign(none=(FRAME["moths"] == 0).astype(int)), "binomial"
    )
    some = made("moths = rain; each orchard: intercept", family="hurdle-poisson")
    for term in ("intercept", "rain", "soil[sand]"):
        assert estimates(both)[f"zeros: {term}"] == pytest.approx(estimates(zero)[term], rel=1e-4)
    part = {r.term: r.se for r in both.result.parts[0].fixed}
    assert part["rain"] == pytest.approx(next(r.se for r in zero.result.fixed if r.term == "rain"), rel=1e-3)
    assert estimates(both)["rain"] == pytest.approx(estimates(some)["rain"], rel=1e-4)
    assert both.result.random[0].sd[1] == pytest.approx(zero.result.random[0].sd[0], rel=1e-3)


def test_the_spread_of_a_logarithm_is_the_spread_of_a_lognormal():
    clause = "= rain; spread = soil; each orchard: intercept"
    one, two = made(f"size {clause}", family="lognormal"), made(f"log(size) {clause}", family="gaussian", method="ml")
    assert one.result.fit.loglik + np.log(FRAME["size"]).sum() == pytest.approx(two.result.fit.loglik, abs=1e-6)
    spread = {r["term"]: r for r in two.result.residual.parameters["spread"]}["soil[sand]"]
    mine = next(r for r in one.result.parts[0].fixed if r.term == "soil[sand]")
    assert (mine.estimate, mine.se) == pytest.approx((spread["estimate"], spread["se"]), rel=1e-4)


def test_two_unordered_levels_are_a_binomial_model():
    frame = FRAME[FRAME["taste"] != "tart"]
    one, two = (made("taste = rain + soil; each orchard: intercept", frame, f) for f in ("nominal", "binomial"))
    assert one.result.fit.loglik == pytest.approx(two.result.fit.loglik, abs=1e-7)
    assert estimates(one)["sweet: rain"] == pytest.approx(estimates(two)["rain"], rel=1e-5)


def test_rows_names_scales_and_words_change_nothing():
    base = made(ZEROS)
    names = {"o1": "o 10", "o2": "Ω", "o3": "-"}
    moved = FRAME.sample(frac=1.0, random_state=5).assign(
        orchard=lambda d: d["orchard"].replace(names), rain=lambda d: 25.4 * d["rain"] + 1000
    )
    other = made("moths = rain; each orchard: zeros + intercept; zeros = soil + rain", moved)
    assert other.result.fit.loglik == pytest.approx(base.result.fit.loglik, abs=1e-6)
    assert estimates(other)["zeros: rain"] == pytest.approx(estimates(base)["zeros: rain"] / 25.4, rel=1e-3)
    levels = made("taste = rain; each orchard: intercept", family="nominal")
    turned = made("taste = rain; each orchard: intercept", family="nominal", baselines={"taste": "tart"})
    assert turned.result.fit.loglik == pytest.approx(levels.result.fit.loglik, abs=1e-6)
    assert estimates(turned)["sweet: rain"] == pytest.approx(
        estimates(levels)["sweet: rain"] - estimates(levels)["tart: rain"], rel=1e-3
    )


def test_nested_models_are_known_across_parts():
    plain, more, most = (
        made(s).design
        for s in ("moths = rain; each orchard: intercept", "moths = rain; zeros = rain; each orchard: intercept", ZEROS)
    )
    assert relation(plain, more).nested
    assert relation(more, most) == relation(more, most).__class__(True, False, 1)
    assert relation(plain, most).extra_effects == 1
    assert not relation(most, plain).nested
    other = made("moths = rain; zeros = soil; each orchard: intercept").design
    assert not relation(more, other).nested


def test_predictions_use_every_part():
    one = bo.fit(ZEROS, FRAME, family="zero-inflated-poisson")
    rows = one.predict().to_frame()
    units = {u.group: u for u in one.core.model.unit_effects()}["orchard"]
    u = units.effects[[units.levels.index(o) for o in FRAME["orchard"]]]
    b = estimates(one.core)
    z = (
        b["zeros: intercept"]
        + b["zeros: rain"] * FRAME["rain"]
        + b["zeros: soil[sand]"] * (FRAME["soil"] == "sand")
        + u[:, 1]
    )
    expected = special.expit(-z) * np.exp(b["intercept"] + b["rain"] * FRAME["rain"] + u[:, 0])
    assert rows["predicted"].to_numpy() == pytest.approx(expected.to_numpy(), rel=1e-8)
    new = one.predict(new=FRAME.head(2).assign(orchard="elsewhere")).to_frame()
    assert (new["se"] > rows["se"].head(2)).all()
    means = one.means("soil", part="zeros").to_frame()
    assert means["outcome"].to_numpy() == pytest.approx(special.expit(means["mean"].to_numpy()))
    levels = bo.fit("taste = rain; each orchard: intercept", FRAME, family="nominal")
    chances = levels.predict().to_frame()
    assert chances[[f"probability[{t}]" for t in ("bland", "sweet", "tart")]].sum(axis=1).to_numpy() == pytest.approx(
        1.0
    )
    assert set(chances["most_probable"]) <= {"bland", "sweet", "tart"}
    cells = levels.means(hold={"rain": [7.0, 9.0]}).to_dict()["means"]
    assert [sum(c["chance"] for c in m["chances"]) for m in cells] == pytest.approx([1.0, 1.0])
    assert [sum(c["population"] for c in m["chances"]) for m in cells] == pytest.approx([1.0, 1.0])
    assert levels.terms().to_frame()["term"].tolist() == ["rain"]


def test_the_error_of_a_prediction_is_that_of_all_predictors_together():
    one = made("moths = rain; zeros = rain")
    rows = bo.fit("moths = rain; zeros = rain", FRAME, family="zero-inflated-poisson").predict().to_frame()
    covariance, b = one.known.covariance, estimates(one)
    x = FRAME["rain"].to_numpy()[0]

    def mean(v):
        return special.expit(-(v[2] + v[3] * x)) * np.exp(v[0] + v[1] * x)

    at = np.array([b[t] for t in ("intercept", "rain", "zeros: intercept", "zeros: rain")])
    slope = np.array([(mean(at + h) - mean(at - h)) / 2e-6 for h in 1e-6 * np.eye(4)])
    assert rows["se"].iloc[0] == pytest.approx(np.sqrt(slope @ covariance @ slope), rel=1e-6)


def test_what_has_no_end_is_not_called_converged():
    split = FRAME.assign(moths=FRAME["moths"].where((FRAME["soil"] == "clay") | (FRAME["moths"] > 0), 2))
    one = made("moths = rain; zeros = soil", split, "hurdle-poisson")
    assert not one.converged
    assert any("zeros: soil: sand vs clay runs away" in w for w in one.result.warnings)


def test_counts_that_explain_all_zeros_are_told():
    r = np.random.default_rng(6)
    plain = FRAME.assign(moths=1 + r.poisson(3.0, len(FRAME)))
    one = made("moths = rain; zeros = soil", plain, "zero-inflated-poisson")
    assert not one.converged
    told = [w for w in one.result.warnings if "The counts explain all zeros" in w]
    assert len(told) == 1
    assert "--family poisson" in told[0]
    assert not any("runs away" in w for w in one.result.warnings)


@pytest.mark.parametrize(("sentence", "family", "error", "words"), [
    ("moths = rain; zeros = soil", "poisson", OrchardError, "families that have: zero-inflated-poisson"),
    ("moths = rain; each orchard: intercept + zeros", "gaussian", OrchardError, r"write \[zeros\]"),
    ("taste = rain; spread = soil", "nominal", OrchardError, "unordered outcome has no"),
    ("moths = rain; zeros = soil; within orchard: ar1(season)", "hurdle-poisson", OrchardError, "do not go with within"),
    ("moths = rain; zero = soil", "hurdle-poisson", SentenceError, "'zero =' is no clause"),
    ("moths = rain; zeros = soil; zeros = rain", "hurdle-poisson", SentenceError, "only one 'zeros' clause"),
    ("rain = soil", "nominal", OrchardError, "an equation for each but one"),
])  # fmt: skip
def test_what_cannot_be_is_said(sentence, family, error, words):
    with pytest.raises(error, match=words):
        made(sentence, family=family)


def test_what_does_not_answer_says_so_by_name():
    one = bo.fit(ZEROS, FRAME, family="zero-inflated-poisson")
    for question in (
        lambda: one.terms(likelihood=True),
        lambda: one.means("soil", part="zeros", errors="robust"),
        lambda: bo.compare(one, one, leave_out="orchard"),
    ):
        with pytest.raises(OrchardError):
            question()
    with pytest.raises(UsageError, match="--part"):
        one.means("soil", part="scatter")


@pytest.mark.slow
def test_every_command_answers(orchard, tmp_path):
    FRAME.to_csv(tmp_path / "t.csv", index=False)
    done = orchard("fit", "t.csv", ZEROS, "--family", "zero-inflated-poisson", "--save", "z", "--json").json
    assert [p["part"] for p in done["parts"]] == ["zeros"]
    assert [r["term"] for r in done["parts"][0]["fixed"]] == ["intercept", "rain", "soil[sand]"]
    assert done["random"][0]["terms"] == ["intercept", "zeros"]
    assert (
        orchard("fit", "t.csv", "taste = rain; each orchard: intercept", "--family", "nominal", "--save", "n").code == 0
    )
    asked = [
        ("show", "z"), ("terms", "z"), ("intervals", "z", "--method", "wald"), ("components", "z"), ("groups", "z"), ("means", "z", "soil", "--part", "zeros"),
        ("predict", "z"), ("check", "z", "--influence", "none"), ("explain", "z"), ("equations", "z"), ("table", "z", "n"), ("draw", "z", "--figure", "l.png"),
        ("draw", "z", "--kind", "effects", "--part", "zeros", "--figure", "e.png"), ("means", "n"), ("predict", "n"), ("equations", "n"), ("explain", "n"),
        ("check", "n", "--influence", "none"), ("draw", "n", "--kind", "effects", "--figure", "n.png"), ("power", "z", "--quick"),
    ]  # fmt: skip
    for words in asked:
        made = orchard(*words, "--json")
        assert made.code == 0, (words, made.err)
        assert made.json["schema"].startswith("bold-orchard/")
    assert "probability of zeros" in orchard("explain", "z").out
    assert "logit" in orchard("equations", "z").out
    drawn = orchard("simulate", "z", "--draws", "2", "--to", "s.csv")
    assert drawn.code == 0
    assert len(pd.read_csv(tmp_path / "s.csv")) == 2 * len(FRAME)
    table = orchard("intervals", "z", "--method", "wald", "--json").json["parameters"]
    assert {"zeros: soil[sand]", "sd(orchard: zeros)"} <= {r["parameter"] for r in table}


def test_a_slope_that_is_constant_in_its_group_is_refused_in_every_part():
    frame = FRAME.assign(age=FRAME["orchard"].str[1:].astype(float))
    with pytest.raises(OrchardError, match="'age' does not vary inside any orchard"):
        made("moths = rain; zeros = soil; each orchard: intercept + age", frame)
    with pytest.raises(OrchardError, match="does not vary inside any orchard"):
        made("taste = rain; each orchard: intercept + age", frame, "nominal")
    with pytest.raises(OrchardError, match="does not vary inside any orchard"):
        made("size, rain = soil; each orchard: intercept + age", frame, "gaussian")


@pytest.mark.parametrize(("sentence", "family"), [
    ("moths = soil + rain; zeros = soil + rain; each orchard: intercept", "hurdle-poisson"), ("size, rain = soil + dose + soil*dose; each orchard: intercept", "gaussian"),
])  # fmt: skip
def test_no_type_of_test_depends_on_a_baseline(sentence, family):
    frame = FRAME.assign(dose=np.random.default_rng(8).choice(["low", "high", "none"], len(FRAME)))
    for kind in (1, 2, 3):
        seen = [
            {
                t["term"]: t["value"]
                for t in terms(made(sentence, frame, family, baselines=base), kind).to_dict()["tests"]
            }
            for base in ({}, {"soil": "sand"})
        ]
        assert seen[0] == pytest.approx(seen[1], rel=1e-4)


def test_check_finds_what_the_zeros_and_the_spread_depend_on():
    r = np.random.default_rng(2)
    o, soil, rain = np.repeat(np.arange(20), 20), r.choice(["clay", "sand"], 400), r.normal(8, 1, 400)
    mean = np.exp(0.8 + 0.2 * (rain - 8) + r.normal(0, 0.4, 20)[o])
    shape = np.where(soil == "sand", 1.5, 8.0)
    frame = pd.DataFrame({"orchard": [f"o{i}" for i in o], "soil": soil, "rain": rain, "moths": np.where(r.random(400) < np.where(soil == "sand", 0.55, 0.15), 0, r.poisson(mean)),
                          "size": r.gamma(shape, mean / shape) + 1e-4})  # fmt: skip
    sentence = "{} = rain + soil; each orchard: intercept"
    for outcome, family, part in (
        ("moths", "zero-inflated-poisson", "zeros"),
        ("moths", "hurdle-poisson", "zeros"),
        ("size", "gamma", "spread"),
    ):
        one = bo.fit(sentence.format(outcome), frame, family=family)
        found = one.check(influence="none").to_dict()
        p = {(t["part"], t["term"]): t["p"] for t in found["parts"]}
        assert p[part, "soil"] < 1e-4
        assert p[part, "rain"] > 1e-3
        offered = f"{sentence.format(outcome)}; {part} = soil"
        assert offered in found["closing"]["try"]
        better = bo.fit(offered, frame, family=family)
        after = {(t["part"], t["term"]): t["p"] for t in better.check(influence="none").to_dict()["parts"]}
        assert (part, "soil") not in after
        assert after[part, "rain"] > 1e-3


@pytest.mark.slow
def test_quadrature_is_the_integral_over_the_units():
    one = made(ZEROS)
    b, g = estimates(one), np.array(one.result.random[0].covariance)
    eta0 = b["intercept"] + b["rain"] * FRAME["rain"].to_numpy()
    z0 = (
        b["zeros: intercept"]
        + b["zeros: rain"] * FRAME["rain"].to_numpy()
        + b["zeros: soil[sand]"] * (FRAME["soil"] == "sand").to_numpy()
    )
    x, w = np.polynomial.hermite_e.hermegauss(150)
    u = np.array(np.meshgrid(x, x)).reshape(2, -1).T @ np.linalg.cholesky(g).T
    weights, codes, total = np.outer(w, w).ravel() / w.sum() ** 2, pd.factorize(FRAME["orchard"])[0], 0.0
    for j in range(codes.max() + 1):
        k = codes == j
        y, eta, z = FRAME["moths"].to_numpy()[k], eta0[k] + u[:, [0]], z0[k] + u[:, [1]]
        counted = special.log_expit(-z) + y * eta - np.exp(eta) - special.gammaln(y + 1)
        rows = np.where(y == 0, np.logaddexp(special.log_expit(z), counted), counted).sum(axis=1)
        total += np.log(np.exp(rows - rows.max()) @ weights) + rows.max()
    c = with_points(make_laplace(one.design), 21)
    assert -0.5 * c.at(one.evaluation.theta).deviance == pytest.approx(total, abs=1e-5)


@pytest.mark.few(1)
@pytest.mark.parametrize(("sentence", "family"), SENTENCES[4:1:-2])
def test_the_gradient_of_quadrature_is_exact(sentence, family):
    simple = sentence.split("; each season", maxsplit=1)[0].replace("intercept + rain + spread", "intercept + spread")
    c = with_points(make_laplace(made(simple, family=family).design), 5)
    theta = 0.2 * np.random.default_rng(4).normal(size=len(c.bounded)) + np.where(c.bounded, 0.5, 0.0)
    point = c.at(theta, close=1e-10)
    found = np.array(
        [
            (c.at(theta + h, point, 1e-10).deviance - c.at(theta - h, point, 1e-10).deviance) / 2e-5
            for h in 1e-5 * np.eye(len(theta))
        ]
    )
    assert point.gradient == pytest.approx(found, abs=2e-5 * (1 + np.abs(found).max()))


def test_one_fit_by_quadrature():
    assert bo.fit(ZEROS, FRAME, family="zero-inflated-poisson", points=7).result.method == "quadrature"
