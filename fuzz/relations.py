"""One model told in two ways: python fuzz/relations.py [PAIRS] [SEED]

Random tables (empty cells, aliased columns, columns and levels with names that mean something elsewhere, units of few rows) and random
sentences, each fitted as it is and once more with rows permuted, levels renamed, baselines changed, a covariate in another unit, or the
sentence in other words. What must not depend on that is compared, command by command: likelihood, tests of terms, means, components,
effects of units, predictions, intervals, lines, comparisons. Counts pairs of answers; exit 1 where two differ.
"""

from __future__ import annotations

import sys
import time
import warnings
from typing import Any

import numpy as np
import pandas as pd

import bold_orchard as bo
from bold_orchard.errors import OrchardError
from bold_orchard.sentence.tree import column_text

NAMES = ["rho", "threshold", "spread", "intercept", "rain mm", "fixed", "residual", "dispersion", "a*b", "x^2", "Σ", "sd(y)", "1st", "log", "level",
         "row", "predicted", "term", "y hat", "each"]  # fmt: skip
LEVELS = [
    "none",
    "None",
    "NA2",
    "10",
    "9",
    "x[1]",
    "a|b",
    "a: b",
    "<5",
    ">5",
    "=1",
    "é",
    " ",
    "b vs a",
    "intercept",
    "in",
    "0",
    "true",
    "-",
    "A",
    "a",
]
CLAUSES = ["each {g}: intercept", "each {g}: intercept + {x}", "each {g} (diagonal): intercept + {x}", "each {g}: intercept; each {h} in {g}: intercept",
           "each {g}: {a}", "each {g}: intercept; spread = {a}", "each {g}: intercept; within {h} in {g}: exchangeable", ""]  # fmt: skip
FIXED = [("{a} + {b} + {a}*{b}", "cross({a}, {b})"), ("{a} + {b} + {x}", "{x} + {b} + {a}"), ("{a}*{x} + {a} + {x}", "{x} + {a} + {x}*{a}"),
         ("{x} + {z} + {a}", "{a} + {x} + {z}"), ("{a}*{b}", "{b}*{a}"), ("{g} + {a}", "{a} + {g}"), ("power({x}, 2) + {b}", "let q = power({x}, 2); {b} + q"),
         ("{a} + {x}", "let q = {x}; {a} + q"), ("smooth({x}) + {a}", "{a} + smooth({x})")]  # fmt: skip
# families with several linear predictors: clauses in two wordings
PARTS = {
    "zero-inflated-poisson": [("zeros = {a}; each {g}: intercept", "each {g}: intercept; zeros = {a}"),
                              ("each {g}: intercept + zeros; zeros = {x}", "zeros = {x}; each {g}: zeros + intercept")],
    "hurdle-poisson": [("zeros = {a} + {x}; each {g}: intercept", "each {g}: intercept; zeros = {x} + {a}")],
    "gamma": [("spread = {a}; each {g}: intercept", "each {g}: intercept; spread = {a}")],
    "nominal": [("each {g}: intercept", "each {g}: intercept"), ("", "")],
}  # fmt: skip
CLOSE = 2e-5


class Case:
    """A table, its names, and a sentence in two wordings."""

    def __init__(self, seed: int) -> None:
        r = self.r = np.random.default_rng(seed)
        units = int(r.integers(5, 12))
        g = np.repeat(np.arange(units), r.integers(4, 9, units))
        n = len(g)
        a, b = r.integers(0, 3, n), r.integers(0, 2 + int(r.integers(2)), n)
        if r.random() < 0.5:  # an empty cell
            keep = ~((a == 1) & (b == 1))
            g, a, b = g[keep], a[keep], b[keep]
            n = len(g)
        x = np.round(r.normal(size=n) * 10.0 ** r.integers(-2, 3), 6)
        z = 2.0 * x + 1.0 if r.random() < 0.3 else r.normal(size=n)
        h = np.concatenate([np.arange(k) // 2 for k in np.bincount(g) if k])
        eta = 0.8 * r.normal(size=units)[g] + 0.5 * (a == 1) + 0.3 * x / max(float(x.std()), 1e-9)
        self.family = str(r.choice(["gaussian", "gaussian", "gaussian", "poisson", "binomial", *PARTS]))
        y = {"gaussian": eta + r.normal(size=n), "poisson": r.poisson(np.exp(np.minimum(eta, 3))),
             "binomial": (r.random(n) < 1 / (1 + np.exp(-eta))).astype(int), "gamma": np.round(r.gamma(3.0, np.exp(eta) / 3.0) + 1e-3, 4),
             "nominal": np.array(["bland", "sweet", "tart"])[np.clip(r.integers(0, 2, n) + (eta > 0.5), 0, 2)]}.get(self.family)  # fmt: skip
        if y is None:
            y = np.where(r.random(n) < 0.35, 0, r.poisson(np.exp(np.minimum(eta + 0.7, 3))))
        names = r.choice(NAMES, 7, replace=False) if r.random() < 0.6 else np.array(["y", "g", "h", "a", "b", "x", "z"])
        self.names = dict(zip("yghabxz", map(str, names)))
        pick = {k: r.permutation(LEVELS)[: int(v.max()) + 1] for k, v in {"a": a, "b": b}.items()}
        columns = {"y": y, "g": [f"u{i}" for i in g], "h": h + 1, "a": pick["a"][a], "b": pick["b"][b], "x": x, "z": z}
        self.frame = pd.DataFrame({self.names[k]: v for k, v in columns.items()})
        two = FIXED[int(r.integers(len(FIXED)))]
        clause = str(r.choice(CLAUSES))
        if self.family in PARTS:
            pair = PARTS[self.family][int(r.integers(len(PARTS[self.family])))]
            plain = ("{a} + {x}", "{x} + {a}") if "smooth" in two[0] else two
            if "{g}" in plain[0]:
                plain = ("{a} + {x}", "{x} + {a}")
            self.sentences = [self._told(fixed, own) for fixed, own in zip(plain, pair)]
            return
        if self.family != "gaussian":
            clause = clause.split("; spread", maxsplit=1)[0].split("; within", maxsplit=1)[0]
        if "{g}" in two[0]:
            clause = clause.replace("each {g}: intercept", "").strip("; ")
        self.sentences = [self._told(fixed, clause) for fixed in two]

    def _told(self, fixed: str, clause: str) -> str:
        lets, _, rest = fixed.rpartition("; ")
        whole = "; ".join(p for p in (lets, "{y} = " + rest, clause) if p)
        return whole.format(**{k: column_text(v) for k, v in self.names.items()})

    def fit(self, sentence: str, frame: pd.DataFrame, baseline: dict[str, str] | None = None) -> Any:
        return bo.fit(sentence, frame, family=self.family, baseline=baseline or {}, force=True, name="m")


class Told:
    """What a fit says, under keys in which neither baselines nor names of levels stand."""

    def __init__(
        self, case: Case, fit: Any, back: dict[str, dict[str, str]], scale: float = 1.0, order: Any = None
    ) -> None:
        self.case, self.fit, self.back, self.scale, self.order = case, fit, back, scale, order

    def level(self, column: str, level: Any) -> str:
        return self.back.get(column, {}).get(str(level), str(level))

    def answers(self) -> dict[str, dict[Any, Any]]:
        out: dict[str, dict[Any, Any]] = {}
        for name in (
            "likelihood",
            "terms 1",
            "terms 2",
            "terms 3",
            "means a",
            "means b",
            "components",
            "groups",
            "predict",
            "effects",
        ):
            try:
                out[name] = getattr(self, name.split()[0])(*name.split()[1:])
            except OrchardError as e:
                out[name] = {"refused": type(e).__name__}
        return out

    def likelihood(self) -> dict[Any, Any]:
        d = self.fit.result.to_dict()
        c = d["convergence"]
        own = {
            "converged": c["converged"],
            "identified": c["identified"],
            "n": d["fit"]["n_parameters"],
        }
        if c["converged"]:  # where a search ended that failed says nothing
            own["boundary"] = c["boundary"]
        free = c["converged"] and (d["method"] != "REML" or self.scale == 1.0)
        return own | ({"deviance": d["fit"]["deviance"]} if free and self.same_columns else {})

    same_columns = True

    def terms(self, kind: str) -> dict[Any, Any]:
        if kind == "1" and not self.same_order:
            return {}
        d = self.fit.terms(type=int(kind), force=True).to_dict()
        return {
            (frozenset(t["term"].replace("q", self.q).split("*")), k): t[k]
            for t in d["tests"]
            for k in ("value", "num_df", "den_df")
        }

    same_order, q = True, "q"

    def means(self, key: str) -> dict[Any, Any]:
        column = self.case.names[key]
        d = self.fit.means(column, force=True).to_dict()
        return {(self.level(column, m["levels"][column]), k): m[k] for m in d["means"] for k in ("mean", "se", "df", "population")
                if k in m}  # fmt: skip

    def components(self) -> dict[Any, Any]:
        d = self.fit.components().to_dict()
        return {"r2": next(iter(d["r2"].values())), "r2c": d["r2"]["conditional"]} | {
            (i["group"], k): i[k] for i in d["icc"] for k in ("value", "share")
        }

    def groups(self) -> dict[Any, Any]:
        d = self.fit.groups().to_dict()
        return {(i, r["level"]): r["effects"]["intercept"] for i, g in enumerate(d["groups"]) if "intercept" in g["terms"]
                and g["terms"] == ["intercept"] for r in g["rows"]}  # fmt: skip

    def predict(self) -> dict[Any, Any]:
        rows = self.fit.predict().to_frame()
        if self.case.family == "nominal":
            order = np.arange(len(rows)) if self.order is None else np.argsort(self.order)
            chances = rows[[c for c in rows.columns if c.startswith("probability[")]].to_numpy()[order]
            return {(i, "chance", k): v for i, own in enumerate(chances) for k, v in enumerate(own)}
        made = rows[[c for c in rows.columns if c in ("predicted", "predicted of m")][-1]].to_numpy(dtype=float)
        se = rows[[c for c in rows.columns if c in ("se", "se of m")][-1]].to_numpy(dtype=float)
        order = np.arange(len(made)) if self.order is None else np.argsort(self.order)
        return dict(enumerate(made[order])) | {("se", i): v for i, v in enumerate(se[order])}

    def effects(self) -> dict[Any, Any]:
        d = self.fit.draw(kind="effects", along=self.case.names["x"]).to_dict()
        return {i: v for e in d["effects"] for i, v in enumerate(e["estimate"][::10])}


def variants(case: Case) -> list[tuple[str, Told]]:
    """The same model in other ways."""
    r, frame, (one, two), names = case.r, case.frame, case.sentences, case.names
    out = []
    order = r.permutation(len(frame))
    out.append(
        ("rows permuted", lambda: Told(case, case.fit(one, frame.iloc[order].reset_index(drop=True)), {}, order=order))
    )
    forth = {names[k]: dict(zip(sorted(set(frame[names[k]])), r.permutation(LEVELS).tolist())) for k in "ab"}
    renamed = frame.assign(**{c: frame[c].map(m) for c, m in forth.items()})
    back = {c: {v: k for k, v in m.items()} for c, m in forth.items()}
    out.append(("levels renamed", lambda: Told(case, case.fit(one, renamed), back)))
    base = {
        names[k]: str(r.choice(sorted(set(frame[names[k]]))))
        for k in "ab"
        if column_text(names[k]) in one.replace("*", " ").split()
    }
    out.append(("baselines", lambda: Told(case, case.fit(one, frame, base), {})))
    factor = float(10.0 ** r.integers(-3, 4))
    out.append(
        (
            "another unit",
            lambda: Told(
                case, case.fit(one, frame.assign(**{names["x"]: frame[names["x"]] * factor})), {}, scale=factor
            ),
        )
    )

    def reworded() -> Told:
        made = Told(case, case.fit(two, frame), {})
        made.same_order = False
        made.q = "power(" + names["x"] + ", 2)" if "power" in two else names["x"] if "let" in two else "q"
        return made

    out.append(("in other words", reworded))
    return out


def _kind(key: Any) -> str:
    """What numbers are of one scale: all predictions, all errors of them, all of one name."""
    return (
        str(next((k for k in reversed(key) if isinstance(k, str)), ""))
        if isinstance(key, tuple)
        else type(key).__name__
    )


def differ(one: dict[Any, Any], two: dict[Any, Any]) -> list[str]:
    """Keys whose answers differ; a number is judged beside the largest of its kind in the same answer, at least a tenth of that."""
    found = []
    largest: dict[str, float] = {}
    for key, a in one.items():
        if isinstance(a, float) and np.isfinite(a):
            largest[_kind(key)] = max(largest.get(_kind(key), 0.0), abs(a))
    for key in one.keys() & two.keys():
        a, b = one[key], two[key]
        if isinstance(a, (float, int)) and isinstance(b, (float, int)) and not isinstance(a, bool):
            size = max(abs(a), abs(b), 1e-3, 1e-1 * largest.get(_kind(key), 0.0))
            if not (
                abs(a - b) <= CLOSE * size * (50 if isinstance(key, tuple) and "den_df" in key else 1)
                or (np.isnan(a) and np.isnan(b))
            ):
                found.append(f"{key}: {a} and {b}")
        elif a != b:
            found.append(f"{key}: {a} and {b}")
    return found


def main() -> int:
    pairs, seed = (int(v) for v in (sys.argv[1:] + ["2000", "1"][len(sys.argv) - 1 :])[:2])
    warnings.simplefilter("ignore")
    seen = bad = refused = 0
    began = time.monotonic()
    while seen < pairs:
        case = Case(seed)
        try:
            first = Told(case, case.fit(case.sentences[0], case.frame), {})
        except OrchardError:
            refused += 1
            seed += 1
            continue
        told = first.answers()
        for how, make in variants(case):
            try:
                other = make()
            except OrchardError as e:
                bad += 1
                print(f"seed {seed}, {how}: {case.sentences[0]}\n  refused: {e}")
                continue
            for name, answer in other.answers().items():
                seen += 1
                found = differ(told[name], answer) if first.fit.converged or name == "likelihood" else []
                if found:
                    bad += 1
                    print(
                        f"seed {seed}, {how}, {name}: {case.sentences[0]} [{case.family}]\n  " + "\n  ".join(found[:4]),
                        flush=True,
                    )
        seed += 1
    print(
        f"{seen:,} pairs of answers, {bad} that differ; {refused} tables refused; {time.monotonic() - began:.0f} s; next seed {seed}"
    )
    return int(bad > 0)


if __name__ == "__main__":
    sys.exit(main())
