"""Kenward-Roger with correlated and spread residuals: against the formula over all rows, derivatives taken by hand."""

from __future__ import annotations

import numpy as np
import pytest

import bold_orchard as bo
from bold_orchard.errors import UsageError
from builders import residual, trial


def frame_of(seed=3, trees=24):
    frame = trial(seed, trees=trees, weeks=(1, 2, 3, 5), keep=0.85)
    frame["spray"] = np.where(frame["tree"].str[1:].astype(int) % 2, "yes", "no")
    return frame


def correlations(structure, p, same, gap, code):
    """Slopes of the correlations in what the structure reports, their bends, and the correlations themselves."""
    with np.errstate(all="ignore"):
        if structure == "ar1":
            rho = p["rho"]
            bend = np.where(gap > 1, gap * (gap - 1) * rho ** (gap - 2), 0) * same
            return [np.where(gap > 0, gap * rho ** (gap - 1), 0) * same], {(0, 0): bend}, rho**gap * same
        if structure == "exponential":
            x, r = p["range"], np.exp(-gap / p["range"]) * same
            return [r * gap / x**2], {(0, 0): r * (gap**2 / x**4 - 2 * gap / x**3)}, r
    unit = np.eye(len(gap))
    if structure == "exchangeable":
        return [same - unit], {}, (1 - p["rho"]) * unit + p["rho"] * same
    if structure == "toeplitz":
        far = np.abs(code[:, None] - code[None, :])
        own = [(far == k) * same for k in range(1, len(p["correlations"]) + 1)]
        return own, {}, unit + sum(r * o for r, o in zip(p["correlations"], own))
    return [], {}, unit


def derivatives(fit, frame):
    """dV and d2V by pairs, on the reported scale: covariances of effects, then of the residuals."""
    d = fit.result.to_dict()
    first, second = [], {}
    for clause, part in zip(fit.core.design.clauses, d["random"]):
        z = np.column_stack(clause.part.values)
        same = (
            frame[part["group"]].astype(str).to_numpy()[:, None] == frame[part["group"]].astype(str).to_numpy()
        ).astype(float)
        if "vary" in part:
            yes, at, c = (frame["spray"] == "yes").to_numpy(float), len(first), part["vary"][0]["estimate"]
            z = z * np.exp(c * yes)[:, None]
            whole, x = (z @ np.array(part["covariance"]) @ z.T) * same, yes[:, None] + yes
            first += [2 * whole, x * whole]
            second |= {(at, at): 4 * whole, (at, at + 1): 2 * x * whole, (at + 1, at + 1): x * x * whole}
            continue
        for a in range(z.shape[1]):
            for b in range(a + 1):
                e = np.zeros((z.shape[1],) * 2)
                e[a, b] = e[b, a] = 1.0
                first.append((z @ e @ z.T) * same)
    r = d["residual"]
    p, sigma2, at = r["parameters"], r["variance"], len(first)
    whole = residual(frame, r["unit"], r)
    tree, week = (frame[c].to_numpy() for c in ("tree", "week"))
    same = (tree[:, None] == tree).astype(float)
    gap = np.abs(week[:, None] - week[None, :]).astype(float)
    if r["structure"] == "unstructured":
        code = np.array([p["occasions"].index(str(w)) for w in week])
        for a in range(len(p["occasions"])):
            for b in range(a + 1):
                one = np.outer(code == a, code == b)
                first.append(same * (one | one.T))
        return first, second
    spread = "spread" in p
    first.append(2 * whole if spread else whole / sigma2)
    if spread:
        second[at, at] = 4 * whole
    own, bends, alike = correlations(r["structure"], p, same, gap, np.searchsorted(np.unique(week), week))
    sds = np.sqrt(np.diag(whole))
    outer = np.outer(sds, sds) if spread else sigma2
    assert np.allclose(whole, outer * alike)
    for k, slope in enumerate(own):
        first.append(outer * slope)
        second[at, at + 1 + k] = (2.0 if spread else 1 / sigma2) * outer * slope
    for (k, m), bend in bends.items():
        second[at + 1 + k, at + 1 + m] = outer * bend
    for row in p.get("spread", []):
        x = (frame["soil"] == row["term"][5:-1]).to_numpy(float)
        x, here = x[:, None] + x[None, :], len(first)
        second |= {(k, here): x * first[k] for k in range(at, here)}
        first.append(x * whole)
        second[here, here] = x * x * whole
    return first, second


def by_the_paper(fit, frame, rows):
    x = np.column_stack(fit.core.design.fixed.values)
    first, second = derivatives(fit, frame)
    d = fit.result.to_dict()
    v = residual(frame, d["residual"]["unit"], d["residual"])
    for clause, part in zip(fit.core.design.clauses, d["random"]):
        z = np.column_stack(clause.part.values)
        for row in part.get("vary", []):
            z = z * np.exp(row["estimate"] * (frame["spray"] == "yes").to_numpy(float))[:, None]
        names = frame[part["group"]].astype(str).to_numpy()
        v = v + (z @ np.array(part["covariance"]) @ z.T) * (names[:, None] == names)
    vi = np.linalg.inv(v)
    phi = np.linalg.inv(x.T @ vi @ x)
    m = len(first)
    p = [-x.T @ vi @ g @ vi @ x for g in first]
    q = [[x.T @ vi @ g @ vi @ h @ vi @ x for h in first] for g in first]
    r = np.zeros((m, m, *phi.shape))
    for (i, j), bend in second.items():
        r[i, j] = r[j, i] = x.T @ vi @ bend @ vi @ x
    information = np.array([[0.5 * (np.trace(vi @ first[i] @ vi @ first[j]) - np.trace(2 * phi @ q[i][j] - phi @ p[i] @ phi @ p[j]))
                             for j in range(m)] for i in range(m)])  # fmt: skip
    w = np.linalg.inv(information)
    pairs = [(i, j) for i in range(m) for j in range(m)]
    adjusted = phi + 2 * phi @ sum(w[i, j] * (q[i][j] - p[i] @ phi @ p[j] - r[i, j] / 4) for i, j in pairs) @ phi
    k = len(rows)
    theta = rows.T @ np.linalg.inv(rows @ phi @ rows.T) @ rows
    a1 = sum(w[i, j] * np.trace(theta @ phi @ p[i] @ phi) * np.trace(theta @ phi @ p[j] @ phi) for i, j in pairs)
    a2 = sum(w[i, j] * np.trace(theta @ phi @ p[i] @ phi @ theta @ phi @ p[j] @ phi) for i, j in pairs)
    if k == 1:
        return adjusted, 2 / a2, 1.0
    b, g = (a1 + 6 * a2) / (2 * k), ((k + 1) * a1 - (k + 4) * a2) / ((k + 2) * a2)
    under = 3 * k + 2 * (1 - g)
    c1, c2, c3 = g / under, (k - g) / under, (k + 2 - g) / under
    mean = 1 / (1 - a2 / k)
    variance = (2 / k) * (1 + c1 * b) / ((1 - c2 * b) ** 2 * (1 - c3 * b))
    df = 4 + (k + 2) / (k * variance / (2 * mean**2) - 1)
    return adjusted, df, df / (mean * (df - 2))


SENTENCES = [
    "yield = rain + soil; within tree: unstructured(week)",
    "yield = rain + soil; each orchard: intercept; within tree: ar1(week)",
    "yield = rain + soil; each orchard: intercept + rain; within tree: exchangeable",
    "yield = rain + soil; within tree: toeplitz(week)",
    "yield = rain + soil; each season: intercept; within tree: exponential(week)",
    "yield = rain + soil; each orchard: intercept; spread = soil",
    "yield = rain + soil; each orchard: intercept; within tree: ar1(week); spread = soil",
]


VARIED = [
    "yield = rain + soil; each tree (vary with spray): intercept",
    "yield = rain + soil; each orchard: intercept; each tree (vary with spray): intercept; spread = soil",
]


@pytest.mark.few(3)
@pytest.mark.parametrize("sentence", [VARIED[0], *SENTENCES, VARIED[1]])
def test_it_is_the_paper_s(sentence):
    frame = frame_of(*((5, 90) if sentence in VARIED else ()))
    fit = bo.fit(sentence, frame, df="kenward-roger")
    assert fit.converged
    if fit.result.convergence.boundary:
        pytest.skip("a component at its boundary stays a parameter, at which the formula by hand has no derivative")
    names = [r.term for r in fit.result.fixed]
    soil = np.eye(len(names))[[names.index("soil[loam]"), names.index("soil[sand]")]]
    adjusted, df, factor = by_the_paper(fit, frame, soil)
    np.testing.assert_allclose(fit.core.known.covariance, adjusted, rtol=1e-6, atol=1e-9)
    assert fit.core.known.test(soil) == (pytest.approx(df, rel=1e-6), pytest.approx(factor, rel=1e-6))
    alone = by_the_paper(fit, frame, np.eye(len(names))[1:2])[1]
    assert fit.result.fixed[1].df == pytest.approx(alone, rel=1e-6)
    made = next(t for t in fit.terms().to_dict()["tests"] if t["term"] == "soil")
    assert made["den_df"] == pytest.approx(df, rel=1e-6)


def test_a_trial_with_visits_and_dropout():
    """Visits by treatment, every pair of means: what a referee asks for."""
    frame = frame_of(trees=30)
    fit = bo.fit(
        "yield = category(week)*spray + category(week) + spray; within tree: unstructured(week)",
        frame,
        df="kenward-roger",
    )
    d = fit.means("category(week)*spray", differences=True).to_dict()
    plain = bo.fit("yield = category(week)*spray + category(week) + spray; within tree: unstructured(week)", frame)
    assert len(d["pairs"]) == 28 and all(p["df"] > 2 for p in d["pairs"]) and d["df_method"] == "kenward-roger"
    assert all(a.se >= b.se - 1e-9 for a, b in zip(fit.result.fixed, plain.result.fixed))


@pytest.mark.parametrize("terms", ["intercept", "intercept + week", "intercept + sun"])
def test_sds_that_vary_answer_the_same_however_columns_are_coded(terms):
    """Another zero and unit of the column that SDs depend on, another origin of a slope: one model, one test."""
    frame = frame_of(5, trees=90)
    tree = frame["tree"].str[1:].astype(int)
    frame = frame.assign(age=tree % 7, sun=np.random.default_rng(1).normal(size=len(frame)))
    frame["yield"] += (
        np.exp(0.3 * frame["age"]) * np.random.default_rng(2).normal(size=90)[tree] * (1 + 0.5 * frame["week"]) / 2
    )
    frame["yield"] += np.random.default_rng(3).normal(size=90)[tree] * frame["sun"]
    sentence = f"yield = rain + soil + sun + week; each tree (vary with age): {terms}"
    one = bo.fit(sentence, frame, df="kenward-roger")
    assert one.converged and not one.result.convergence.boundary
    other = frame.assign(age=10 * (frame["age"] - 3), week=2 * frame["week"] + 7, sun=(frame["sun"] - 5) / 3)
    two = bo.fit(sentence, other, df="kenward-roger")
    at = [r.term for r in one.result.fixed].index("rain")
    a, b = one.result.fixed[at], two.result.fixed[at]
    assert (b.se, b.df) == (pytest.approx(a.se, rel=1e-5), pytest.approx(a.df, rel=1e-4))
    for x, y in zip(one.terms().to_dict()["tests"], two.terms().to_dict()["tests"]):
        assert (y["value"], y["den_df"]) == (pytest.approx(x["value"], rel=1e-4), pytest.approx(x["den_df"], rel=1e-4))


def test_names_of_levels_and_rows_in_any_order():
    frame = frame_of()
    other = frame.sample(frac=1, random_state=1).assign(tree=lambda f: "z" + f["tree"])
    one, two = (bo.fit(SENTENCES[1], f, df="kenward-roger").result.fixed for f in (frame, other))
    for a, b in zip(one, two):
        assert (b.se, b.df) == (pytest.approx(a.se, rel=1e-6), pytest.approx(a.df, rel=1e-5))


def test_what_it_cannot_serve(monkeypatch):
    from bold_orchard.inference.coefficients import kenward_roger_beyond

    frame = frame_of()
    near_zero = (
        "yield = rain + soil; each orchard: intercept; each tree (vary with spray): intercept; within tree: ar1(week)"
    )
    with pytest.raises(UsageError, match="negative variances; leave the columns out"):
        bo.fit(near_zero, frame_of(trees=40), df="kenward-roger")
    monkeypatch.setattr(kenward_roger_beyond, "MOST_TOGETHER", 20)
    with pytest.raises(UsageError, match="hang together"):
        bo.fit("yield = rain; each season: intercept; within tree: ar1(week)", frame, df="kenward-roger")
