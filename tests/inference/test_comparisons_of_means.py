"""Against one level, letters, sizes in SDs, trends, and means of all terms in one go."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from scipy import stats

import bold_orchard as bo
from bold_orchard.errors import UsageError
from bold_orchard.inference.coefficients.comparisons import letters
from bold_orchard.inference.coefficients.multivariate_t import max_quantile, max_tail
from builders import trial

# Dunnett (1964), Biometrics 20, 482-491: two-sided 5% points of equally replicated means
TABLE = [(10, 2, 2.57), (10, 3, 2.76), (10, 4, 2.89), (20, 2, 2.38), (20, 3, 2.54), (None, 2, 2.21), (None, 4, 2.44)]


@pytest.mark.parametrize(("df", "k", "figure"), TABLE)
def test_published_points(df, k, figure):
    assert max_quantile(0.95, np.full((k, k), 0.5) + 0.5 * np.eye(k), df) == pytest.approx(figure, abs=0.006)


def correlation(k, seed):
    a = np.random.default_rng(seed).normal(size=(k, k + 1))
    c = a @ a.T
    return c / np.sqrt(np.outer(np.diag(c), np.diag(c)))


@pytest.mark.few(1)
@pytest.mark.parametrize("df", [7.3, None])
@pytest.mark.parametrize("k", [1, 2, 3, 5])
def test_tails_against_a_library_of_distributions(k, df):
    r = correlation(k, k)
    box = {"x": np.full(k, 1.7), "lower_limit": np.full(k, -1.7), "maxpts": 3_000_000}
    if df is None:
        inside = stats.multivariate_normal.cdf(mean=np.zeros(k), cov=r, abseps=1e-7, **box)
    else:
        inside = stats.multivariate_t.cdf(shape=r, df=df, random_state=1, **box)
    assert max_tail(1.7, r, df) == pytest.approx(1 - inside, abs=3e-5)


def test_both_ways_to_the_tail_agree():
    loadings = np.array([0.3, -0.6, 0.8, 0.5])
    r = np.outer(loadings, loadings)
    np.fill_diagonal(r, 1.0)
    nearly = r.copy()
    nearly[0, 1] = nearly[1, 0] = r[0, 1] + 1e-7  # no product form: by the lattice
    assert max_tail(2.2, nearly, 12.0) == pytest.approx(max_tail(2.2, r, 12.0), abs=5e-6)


@pytest.fixture(scope="module")
def fit():
    frame = trial(seed=6, trees=40)
    frame["dose"] = np.random.default_rng(2).choice(["0", "10", "20", "40"], len(frame))
    frame["yield"] += 0.03 * frame["dose"].astype(float)
    return bo.fit("yield = soil + category(dose); each tree: intercept", frame)


def test_against_one_level_is_one_statement(fit):
    d = fit.means("category(dose)", against="10").to_dict()
    assert d["correction"] == "dunnett" and [p["b"] for p in d["pairs"]] == ["10"] * 3
    assert len({p["df"] for p in d["pairs"]}) == 1
    plain = {
        (p["a"], p["b"]): p for p in fit.means("category(dose)", correction="none", differences=True).to_dict()["pairs"]
    }
    for p in d["pairs"]:
        twin, sign = (plain[p["a"], p["b"]], 1) if (p["a"], p["b"]) in plain else (plain[p["b"], p["a"]], -1)
        assert p["difference"] == pytest.approx(sign * twin["difference"])
        assert p["p"] <= p["p_adjusted"] <= 3 * p["p"] + 1e-9
        assert (p["ci"][0] > 0 or p["ci"][1] < 0) == (p["p_adjusted"] < 0.05)
    with pytest.raises(UsageError, match="no level '11' of the term; did you mean '10'"):
        fit.means("category(dose)", against="11")


def test_levels_share_a_letter_where_they_do_not_differ(fit):
    for alpha in (0.5, 0.9):
        d = fit.means("category(dose)", letters=True, confidence=alpha).to_dict()
        names = {next(iter(m["levels"].values())): m["letters"] for m in d["means"]}
        for p in d["pairs"]:
            assert bool(set(names[p["a"]]) & set(names[p["b"]])) == (p["p_adjusted"] > 1 - alpha)
    largest = max(d["means"], key=lambda m: m["mean"])
    assert "a" in largest["letters"]


@pytest.mark.parametrize("seed", range(20))
def test_letters_of_any_pattern(seed):
    """No pattern of differences is told wrongly, and no letter is one too many."""
    r, n = np.random.default_rng(seed), 6
    pairs = [{"places": (j, i), "p_adjusted": float(r.random())} for i, j in itertools.combinations(range(n), 2)]
    made = letters(list(r.normal(size=n)), pairs, 0.4)
    for p in pairs:
        i, j = p["places"]
        assert bool(set(made[i]) & set(made[j])) == (p["p_adjusted"] > 0.4)
    columns = [{i for i in range(n) if x in made[i]} for x in set("".join(made))]
    assert not any(a < b for a in columns for b in columns)


def test_sizes_are_differences_in_sds(fit):
    d = fit.means("soil", effect_sizes=True).to_dict()
    residual, tree = fit.result.residual.sd, fit.result.random[0].sd[0]
    for p in d["pairs"]:
        assert p["d_residual"] == pytest.approx(p["difference"] / residual)
        assert p["d_total"] == pytest.approx(p["difference"] / np.hypot(residual, tree))


def test_trends_are_polynomials_in_the_levels(fit):
    d = fit.means("category(dose)", trend=True).to_dict()
    x = np.array([0.0, 10, 20, 40])
    means = {float(m["levels"]["category(dose)"]): m["mean"] for m in d["means"]}
    linear = (x - x.mean()) / np.sqrt(((x - x.mean()) ** 2).sum())
    assert [t["trend"] for t in d["trends"]] == ["linear", "quadratic", "cubic"]
    assert d["trends"][0]["estimate"] == pytest.approx(linear @ [means[v] for v in x])
    total = sum(t["estimate"] ** 2 for t in d["trends"])
    assert total == pytest.approx(((np.array(list(means.values())) - np.mean(list(means.values()))) ** 2).sum())


def test_means_of_all_terms(fit):
    d = fit.means().to_dict()
    assert d["term"] is None and [m["term"] for m in d["means"]] == ["soil"] * 3 + ["category(dose)"] * 4
    for term in ("soil", "category(dose)"):
        alone = fit.means(term).to_dict()
        assert [m["mean"] for m in d["means"] if m["term"] == term] == [m["mean"] for m in alone["means"]]
        own = [{k: v for k, v in p.items() if k != "term"} for p in d["pairs"] if p["term"] == term]
        assert own == alone["pairs"]
    page = str(fit.means())
    assert "soil" in page and "category(dose)" in page and "every category" in page
