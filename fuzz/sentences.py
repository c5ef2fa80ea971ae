"""Random sentences through every command: `python fuzz/sentences.py [COUNT] [FIRST SEED]`.

Grammatical sentences over a small table with odd names, missing cells, an infinity and codes, of every family, go through fit and
then through all later commands with random options. A finding is exit 1, a traceback, JSON that does not read, a warning on the
terminal, or more than 20 seconds; each is printed with its seed.
"""

from __future__ import annotations

import contextlib
import io
import json
import os
import signal
import sys
import tempfile
from collections import Counter
from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np
import pandas as pd

from bold_orchard.cli.main import main

SECONDS = 20
NUMBERS = ("rain", "[sun h]", "week", "nitrogen", "w")
UNITS = ("orchard", "tree", "tree in orchard", "season", "[row no.]", "soil")
CATEGORIES = ("pruning", "soil", "category(nitrogen)", "category(season)")
FAMILIES = {
    "kilos": "gaussian",
    "count": "poisson",
    "hit": "binomial",
    "share": "beta",
    "grade": "ordinal",
    "size": "gamma",
}
STRUCTURES = ("", "", "", " (diagonal)", " (identity)", " (exchangeable)", " (unstructured)")


def table(seed: int) -> pd.DataFrame:
    r = np.random.default_rng(seed)
    n = int(r.integers(20, 90))
    frame = pd.DataFrame(
        {
            "orchard": r.integers(0, 7, n),
            "tree": r.integers(1, 4, n),
            "season": r.integers(1, 5, n),
            "week": np.arange(n) % 9,
        }
    )
    frame["orchard"] = [f"o{k}" for k in frame["orchard"]]
    frame["row no."] = np.arange(n) // 2
    frame["rain"], frame["sun h"], frame["w"] = (
        r.normal(40, 9, n).round(2),
        r.normal(size=n).round(3),
        r.uniform(0.5, 3, n).round(2),
    )
    frame["nitrogen"], frame["soil"] = r.choice([0, 50, 100], n), r.choice(["clay", "sand"], n)
    frame["pruning"] = r.choice(["hard", "light", "none"], n)
    eta = (
        0.02 * (frame["rain"] - 40)
        + 0.5 * (frame["pruning"] == "hard")
        + 0.5 * r.normal(size=7)[frame["orchard"].str[1:].astype(int)]
    )
    frame["kilos"], frame["count"] = (20 + 3 * eta + r.normal(size=n)).round(3), r.poisson(np.exp(eta))
    frame["hit"], frame["share"] = (
        (r.random(n) < 0.5).astype(int),
        (1 / (1 + np.exp(-eta + r.normal(size=n)))).clip(0.01, 0.99).round(4),
    )
    frame["grade"], frame["size"] = (
        np.array(["poor", "fair", "good"])[np.digitize(eta, [-0.2, 0.4])],
        np.exp(eta + 0.3 * r.normal(size=n)).round(4),
    )
    if r.random() < 0.3:
        frame.loc[frame.index[:2], "rain"] = np.nan
    if r.random() < 0.1:
        frame.loc[3, "sun h"] = np.inf
    if r.random() < 0.2:
        frame.loc[1, "rain"] = -999
    return frame


def pick(r: np.random.Generator, items: Sequence[str]) -> str:
    return str(items[r.integers(len(items))])


def factor(r: np.random.Generator, depth: int = 0) -> str:
    x = pick(r, NUMBERS)
    if r.random() < 0.35 or depth > 2:
        return pick(r, (x, pick(r, CATEGORIES)))
    inner = factor_number(r, depth + 1)
    return pick(r, (f"centre({inner})", f"zscore({inner})", f"power({inner}, {r.integers(1, 4)})", f"spline({inner}, 3)", f"since({inner})",
                    f"centre({inner}, orchard)", f"mean({inner}, orchard)", f"split({x}, orchard)", f"rescale({inner}, 7)",
                    f"calc({x} * 2 - max({pick(r, NUMBERS)}, 3) / 7)", f"min({x}, tree)", f"since({x}, orchard)", f"lag({x}, orchard, week)",
                    f"log({inner})", f"sqrt(abs({inner}))", f"exp({inner})"))  # fmt: skip


def factor_number(r: np.random.Generator, depth: int) -> str:
    x = pick(r, NUMBERS)
    return (
        x
        if r.random() < 0.6 or depth > 2
        else pick(r, (f"centre({x})", f"zscore({x})", f"abs({x})", f"since({x})", f"calc({x}^2 + 1)"))
    )


def sentence(r: np.random.Generator) -> tuple[str, str]:
    outcome = pick(r, tuple(FAMILIES))
    terms = ["*".join(factor(r) for _ in range(int(r.integers(1, 3)))) for _ in range(int(r.integers(0, 4)))] or [
        "intercept"
    ]
    text = f"{outcome} = {' + '.join(terms)}" + (
        " without intercept" if r.random() < 0.1 and terms != ["intercept"] else ""
    )
    if r.random() < 0.1:
        text = f"{outcome} = cross({pick(r, CATEGORIES)}, {pick(r, NUMBERS)})"
    for _ in range(int(r.integers(0, 4))):
        own = ["intercept"] if r.random() < 0.8 else []
        own += [factor(r)] if r.random() < 0.4 or not own else []
        text += f"; each {pick(r, UNITS)}{pick(r, STRUCTURES)}: {' + '.join(own)}"
    if FAMILIES[outcome] == "gaussian" and r.random() < 0.3:
        text += pick(r, ("; within orchard: exchangeable", "; within [row no.]: ar1(week)", "; within [row no.]: unstructured(tree)", "; spread = soil",
                         "; spread = rain", "; within tree in orchard: ar1(week); spread = soil"))  # fmt: skip
    return text, FAMILIES[outcome]


def later(r: np.random.Generator) -> list[list[str]]:
    hold = pick(r, ("rain=10,40", "nitrogen=50", "soil=clay", "season=2", "nitrogen=7"))
    return [
        ["show", "m"], ["show", "m", "--matrices", "mm"], ["components", "m"], ["terms", "m", "--type", pick(r, "123")],
        ["means", "m", pick(r, ("pruning", "soil", "nitrogen", "pruning*soil")), "--differences", "--hold", hold], ["groups", "m"],
        ["check", "m", "--figure", "c.png"], ["check", "m", "--unit", pick(r, UNITS).strip("[]"), "--time", "week"], ["predict", "m"],
        ["predict", "m", "--new-observation", "--csv", "p.csv"], ["draw", "m", "--kind", pick(r, ("lines", "panels", "against", "effects", "coefficients")), "--figure", "d.png"],
        ["intervals", "m", "--method", "wald"], ["terms", "m", "--contrast", "hard - light"], ["compare", "m", "m0"],
    ]  # fmt: skip


def run(arguments: list[str]) -> tuple[int, str, str]:
    out, err = io.StringIO(), io.StringIO()
    signal.alarm(SECONDS)
    try:
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            code = main(arguments)
    except Late:
        return 99, "", "SLOW"
    finally:
        signal.alarm(0)
    return code, out.getvalue(), err.getvalue()


def problem(code: int, out: str, err: str, asked: bool) -> str | None:
    if code not in (0, 2, 3, 4):
        return err.strip()[-200:] or f"exit {code}"
    if "Traceback" in err or "Warning" in err or "Traceback" in out:
        return err.strip()[-200:]
    if asked and code in (0, 4):
        try:
            json.loads(out, parse_constant=lambda c: (_ for _ in ()).throw(ValueError(c)))
        except ValueError as e:
            return f"no JSON: {e}"
    return None


def trouble(seed: int) -> list[str]:
    r = np.random.default_rng(seed)
    table(seed).to_csv("t.csv", index=False)
    for old in Path(".").glob("m*.fit.json"):
        old.unlink()
    text, family = sentence(r)
    base = ["fit", "t.csv", text, "--family", family, "--save", "m"]
    base += ["--force"] if r.random() < 0.4 else []
    base += ["--weights", "w"] if r.random() < 0.1 else []
    base += ["--method", "ml"] if r.random() < 0.3 else []
    run(["fit", "t.csv", f"{text.split('=')[0]} = intercept", "--family", family, "--save", "m0"])
    found, commands = [], [base, *later(r)]
    for k, command in enumerate(commands):
        asked = bool(r.random() < 0.5)
        code, out, err = run([*command, "--json"] if asked else command)
        wrong = problem(code, out, err, asked)
        if wrong:
            found.append(f"{seed} {text} | {' '.join(command[0:1] + command[2:])}: {wrong}")
        if k == 0 and code not in (0, 4):
            break
    return found


class Late(BaseException):
    """The time of a command is up; no handler of the program takes it for a fault of a file."""


def late(*_: object) -> None:
    raise Late


def rounds(prepare: Callable[[], None], trouble: Callable[[int, str | None], str | None]) -> int:
    """Seeds of ``[COUNT] [FIRST SEED] [KIND]`` in a folder of their own; each finding is printed, and makes the exit code 1."""
    given = [*sys.argv[1:], *("500", "0", "")[len(sys.argv) - 1 :]]
    count, first, kind = int(given[0]), int(given[1]), given[2] or None
    signal.signal(signal.SIGALRM, late)
    seen: Counter[str] = Counter()
    with tempfile.TemporaryDirectory() as folder:
        os.chdir(folder)
        prepare()
        for seed in range(first, first + count):
            found = trouble(seed, kind)
            seen["found" if found else "fine"] += 1
            if found:
                print(found, flush=True)
        os.chdir("/")
    print(kind or "all kinds", dict(seen))
    return 1 if seen["found"] else 0


def go() -> int:
    count, first = (int(v) for v in (*sys.argv[1:], *("200", "0")[len(sys.argv) - 1 :]))
    signal.signal(signal.SIGALRM, late)
    seen: Counter[str] = Counter()
    with tempfile.TemporaryDirectory() as folder:
        os.chdir(folder)
        for seed in range(first, first + count):
            found = trouble(seed)
            seen["found" if found else "fine"] += 1
            for line in found:
                print(line, flush=True)
    print(dict(seen))
    return 1 if seen["found"] else 0


if __name__ == "__main__":
    sys.exit(go())
