"""Damaged files and odd words through the commands that read them: `python fuzz/files.py [COUNT] [FIRST SEED] [KIND]`.

Tables whose bytes or cells were changed, saved fits and posteriors with keys taken out and values swapped, plans and priors with letters
and lines moved, sentences and expressions with tokens dropped, doubled and swapped. A finding is what `sentences.py` calls one.
"""

from __future__ import annotations

import copy
import json
import random
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from sentences import problem, rounds, run

KINDS = ("bytes", "cells", "sentence", "expression", "saved fit", "posterior", "plan", "prior", "options")
SENTENCE = "yield = centre(rain) + pruning*soil; each orchard: intercept + rain; within tree in orchard: ar1(week); spread = soil"
TOKENS = ("=", ";", ":", "+", "*", "(", ")", "[", "]", "each", "within", "spread", "in", "vary", "with", "let", "1e999", "-", "'", '"', "\u00e9", "\u2212", ",",
          "yield", "rain", "intercept", "without", "centre", "of", "0", "\t", "\n", "NaN", "not")  # fmt: skip
CELLS = ("", "NA", "-999", "1e400", "-inf", "nan", "\u00e9t\u00e9", "0x1F", "1,5", "12%", "=1+1", " 3 ", "'", '"', "TRUE", "2026-01-01", "1_000", "\u0663", "a;b",
         "\x00", "1e-320", "99999999999999999999")  # fmt: skip
PLAN = """title = "Rain"
[data]
file = "t.csv"
[fits.empty]
sentence = "yield = intercept; each orchard: intercept"
[fits.rain]
sentence = "yield = rain + pruning; each orchard: intercept"
[[steps]]
command = "compare"
fits = ["empty", "rain"]
[[steps]]
command = "means"
fit = "rain"
term = "pruning"
"""
PRIORS = ("rain = normal(0, 1)", "sd(orchard: intercept) = half-normal(2)", "fixed = student(3, 0, 1)", "sd(residual) = exponential(0.5)",
          "pruning[light] = flat", "intercept = lkj(2)")  # fmt: skip
EXPRESSIONS = (
    "rain > 3 and soil = clay",
    "not (week < 2) or pruning in (light, hard)",
    "yield is missing",
    "calc(rain / 2) >= 1e3",
    "rain = 3",
)


def table(seed: int) -> pd.DataFrame:
    r = np.random.default_rng(seed)
    n = int(r.integers(12, 60))
    made = pd.DataFrame({"orchard": [f"o{k}" for k in r.integers(0, 5, n)], "tree": r.integers(1, 4, n), "week": np.arange(n) % 6, "rain": r.normal(40, 9, n).round(2),
                         "soil": r.choice(["clay", "sand"], n), "pruning": r.choice(["hard", "light", "none"], n)})  # fmt: skip
    made["yield"] = (20 + 0.1 * made["rain"] + r.normal(size=n)).round(3)
    return made


def mutated_bytes(data: bytes, r: random.Random) -> bytes:
    out = bytearray(data)
    for _ in range(r.randint(1, 6)):
        at = r.randrange(len(out) + 1)
        act = r.randrange(5)
        if act == 0:
            out[at:at] = bytes(r.randrange(256) for _ in range(r.randint(1, 4)))
        elif act == 1:
            del out[at : at + r.randint(1, 30)]
        elif act == 2:
            out[at:at] = out[at : at + r.randint(1, 40)]
        elif act == 3 and at < len(out):
            out[at] = r.choice(b',;\t\n\r"\x00\xff \xef')
        else:
            out = out[: max(at, 1)] if r.random() < 0.2 else out
    return bytes(out)


def mutated_words(text: str, r: random.Random) -> str:
    words = text.replace("(", " ( ").replace(")", " ) ").split(" ")
    for _ in range(r.randint(1, 4)):
        at = r.randrange(len(words))
        act = r.randrange(4)
        if act == 0:
            words.insert(at, r.choice(TOKENS))
        elif act == 1 and len(words) > 1:
            del words[at]
        elif act == 2:
            words[at], words[-1] = words[-1], words[at]
        else:
            words[at] = words[at][: r.randint(0, 4)] + r.choice(TOKENS)
    return " ".join(words)


def mutated_json(document: Any, r: random.Random) -> Any:
    made = copy.deepcopy(document)
    for _ in range(r.randint(1, 3)):
        here, path = made, 0
        while isinstance(here, (dict, list)) and here and path < 12:
            keys = list(here) if isinstance(here, dict) else list(range(len(here)))
            key: Any = r.choice(keys)
            path += 1
            if r.random() < 0.3 or not isinstance(here[key], (dict, list)):
                if r.random() < 0.3:
                    del here[key]
                else:
                    here[key] = r.choice(
                        [None, -1, 0, 1e308, "", "x", [], {}, True, [None], "1", {"a": 1}, float(r.random()), 10**40]
                    )
                break
            here = here[key]
    return made


# -- the kinds: each makes files and gives the command line to try


def of_bytes(seed: int, r: random.Random) -> list[str]:
    Path("m.csv").write_bytes(mutated_bytes(table(seed).to_csv(index=False).encode(), r))
    return [*r.choice((["scout", "m.csv"], ["fit", "m.csv", "yield = rain; each orchard: intercept"]))]


def of_cells(seed: int, r: random.Random) -> list[str]:
    frame = table(seed).astype(object)
    for _ in range(r.randint(1, 8)):
        frame.iat[r.randrange(len(frame)), r.randrange(frame.shape[1])] = r.choice(CELLS)
    if r.random() < 0.2:
        frame.columns = [r.choice((c, c.upper(), f" {c}", r.choice(CELLS))) for c in frame.columns]
    frame.to_csv("m.csv", index=False, sep=r.choice((",", ",", ";", "\t")))
    return r.choice((["scout", "m.csv"], ["fit", "m.csv", "yield = rain + pruning; each orchard: intercept"],
                     ["fit", "m.csv", "yield = rain; each tree in orchard: intercept", "--missing", r.choice(CELLS).replace("\x00", "")]))  # fmt: skip


def of_sentence(seed: int, r: random.Random) -> list[str]:
    table(3).to_csv("t.csv", index=False)
    return ["fit", "t.csv", mutated_words(SENTENCE, r).replace("\x00", "")]


def of_expression(seed: int, r: random.Random) -> list[str]:
    table(3).to_csv("t.csv", index=False)
    return [
        "fit",
        "t.csv",
        "yield = rain; each orchard: intercept",
        f"--where={mutated_words(r.choice(EXPRESSIONS), r)}",
    ]


def of_saved(seed: int, r: random.Random) -> list[str]:
    Path("m.fit.json").write_text(json.dumps(mutated_json(json.loads(Path("kept.fit.json").read_text()), r)))
    return r.choice((["show", "m"], ["terms", "m"], ["groups", "m"], ["predict", "m"], ["compare", "m", "kept"], ["table", "m", "kept"], ["intervals", "m", "--method", "wald"],
                     ["check", "m"], ["means", "m", "pruning"], ["components", "m"], ["equations", "m"], ["plan", "m"]))  # fmt: skip


def of_posterior(seed: int, r: random.Random) -> list[str]:
    if r.random() < 0.5:
        Path("m.posterior.json").write_text(
            json.dumps(mutated_json(json.loads(Path("kept.posterior.json").read_text()), r))
        )
        return ["sample", "m.posterior.json", *(["--compare", "kept.posterior.json"] if r.random() < 0.3 else [])]
    Path("m.csv").write_bytes(mutated_bytes(Path("draws.csv").read_bytes(), r))
    return [
        *r.choice((["groups", "kept"], ["means", "kept", "pruning"], ["components", "kept"], ["predict", "kept"])),
        "--posterior",
        "m.csv",
    ]


def of_plan(seed: int, r: random.Random) -> list[str]:
    table(3).to_csv("t.csv", index=False)
    text = mutated_bytes(PLAN.encode(), r) if r.random() < 0.5 else mutated_words(PLAN, r).encode()
    Path("m.toml").write_bytes(text)
    return ["run", "m.toml", "--check", "--into", "out"]


def of_prior(seed: int, r: random.Random) -> list[str]:
    return [
        "sample",
        "kept",
        "--prior-only",
        "--draws",
        "20",
        "--chains",
        "1",
        f"--prior={mutated_words(r.choice(PRIORS), r)}",
    ]


def of_options(seed: int, r: random.Random) -> list[str]:
    odd = ("-1", "0", "1e9", "x", "", "nan", "0.5", "999999999999", "a=b", "rain=", "=3", "rain=1,,2")
    return r.choice((
        ["means", "kept", "pruning", f"--hold={r.choice(odd)}"], ["fit", "t.csv", "yield = rain", f"--confidence={r.choice(odd)}"],
        ["intervals", "kept", "--method", "bootstrap", f"--samples={r.choice(odd[:4])}"], ["fit", "t.csv", "yield = rain", f"--baseline={r.choice(odd)}"],
        ["simulate", "kept", f"--draws={r.choice(odd[:2])}", "--to", "s.csv"], ["power", "kept", "--quick", f"--units={r.choice(odd)}"],
        ["terms", "kept", f"--contrast={mutated_words('hard - light = 1', r)}"], ["draw", "kept", f"--along={r.choice(odd)}", "--figure", "d.png"],
        ["fit", "t.csv", "yield = rain", f"--digits={r.choice(odd)}"], ["fit", "t.csv", "yield = rain", f"--missing={r.choice(odd)}"],
    ))  # fmt: skip


MAKERS: dict[str, Callable[[int, random.Random], list[str]]] = dict(
    zip(KINDS, (of_bytes, of_cells, of_sentence, of_expression, of_saved, of_posterior, of_plan, of_prior, of_options))
)


def prepare() -> None:
    """What is to be damaged, in the folder at hand."""
    table(3).to_csv("t.csv", index=False)
    for arguments in (
        ["fit", "t.csv", "yield = rain + pruning; each orchard: intercept", "--save", "kept"],
        ["sample", "kept", "--draws", "40", "--warmup", "60", "--chains", "2", "--keep", "draws.csv", "--save", "kept"],
    ):
        code, _, err = run(arguments)
        assert code in (0, 4), err


def trouble(seed: int, kind: str | None = None) -> str | None:
    """What goes wrong with one seed, or nothing."""
    r = random.Random(seed)
    kind = kind or KINDS[seed % len(KINDS)]
    arguments = MAKERS[kind](seed, r)
    asked = r.random() < 0.5
    wrong = problem(*run([*arguments, "--json"] if asked else arguments), asked)
    return None if wrong is None else f"{seed} {kind} | {arguments}: {wrong}"


if __name__ == "__main__":
    sys.exit(rounds(prepare, trouble))
