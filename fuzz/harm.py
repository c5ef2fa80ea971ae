"""Attacks on what belongs to the user: `python fuzz/harm.py [COUNT] [FIRST SEED] [KIND]`.

Labels of units of every form, size and order (no two may merge), targets that are data, fits, links and devices (nothing may be lost), plans
that reach for other folders (nothing outside the run's may change), names that a terminal would obey, sizes beyond all bounds. A finding
is a lost or changed file, a wrong number of units, a character obeyed, or what `sentences.py` calls one.
"""

from __future__ import annotations

import gzip
import hashlib
import json
import os
import random
import shutil
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pandas as pd

from sentences import problem, rounds, run

KINDS = ("ids", "targets", "plans", "escapes", "sizes")
SENTENCE = "yield = rain; each plot: intercept"
OBEYED = [
    *range(1, 9),
    *range(11, 13),
    *range(14, 32),
    *range(127, 160),
    0x061C,
    0x200E,
    0x200F,
    *range(0x202A, 0x202F),
    *range(0x2066, 0x206A),
]
BEGINNINGS = ("", "=1+", "+", "-", "@", "<", ">", "[red]", ":apple:", "\\", "$", "<b>", "|", "#", "`")
SIZES = ("1000000000", "100000000000000", "9" * 40, "-1", "0", "1e9", "nan", "", "inf", "0x10")
PLAN = """[data]
file = "t.csv"
[fits.one]
sentence = "yield = rain; each plot: intercept"
{fit}
[[steps]]
command = "{command}"
{step}
{report}
"""


def table(r: random.Random, labels: list[str]) -> pd.DataFrame:
    """Some rows for each label, shuffled."""
    plots = [p for p in labels for _ in range(r.randint(2, 4))]
    r.shuffle(plots)
    g = np.random.default_rng(r.randrange(2**32))
    effect = dict(zip(labels, g.normal(size=len(labels))))
    rain = g.normal(50, 9, len(plots)).round(2)
    return pd.DataFrame(
        {
            "plot": plots,
            "rain": rain,
            "yield": [round(effect[p] + g.normal() + 0.1 * x, 4) for p, x in zip(plots, rain)],
        }
    )


def of_ids(seed: int, r: random.Random) -> str | None:
    """Labels as they stand in a file are the units of the fit, whatever they look like."""
    count = r.choice((3, 12, 40, 3000))
    form: Callable[[int], str] = r.choice((
        lambda i: str(10**18 + i), lambda i: f"{i:04d}", str, lambda i: f"0{i}" if i % 2 else str(i + 1), lambda i: str(-i - 1),
        lambda i: f"{i}" if i % 3 else f"{i}b", lambda i: str(2**53 + i), lambda i: f"P{i}", lambda i: f"{10**16 + i}x" if i == 2 else str(10**16 + i),
        lambda i: f"0x{i:x}", lambda i: f"1_{i}", lambda i: f"{i}-01",
    ))  # fmt: skip
    labels = list(dict.fromkeys(map(form, range(count))))
    frame, ending = table(r, labels), r.choice((".csv", ".csv", ".tsv", ".csv.gz", ".parquet", ".jsonl", ".xlsx"))
    if r.random() < 0.4:  # one empty cell
        frame.loc[len(frame)] = ["", 50.0, 1.0]
    for old in Path().glob("ids.*"):
        old.unlink()
    path = Path("ids" + ending)
    text = frame.to_csv(index=False, sep="\t" if ending == ".tsv" else ",")
    if ending == ".csv.gz":
        path.write_bytes(gzip.compress(text.encode()))
    elif ending == ".parquet":
        frame.to_parquet(path, index=False)
    elif ending == ".jsonl":
        path.write_text("\n".join(json.dumps(row) for row in frame.to_dict("records")))
    elif ending == ".xlsx":
        frame.head(400).to_excel(path, index=False)
        labels = [p for p in dict.fromkeys(frame.head(400)["plot"]) if p]
    else:
        path.write_text(text)
    words = ["fit", str(path), SENTENCE, "--save", "ids", "--force"] + (
        ["--memory", "1MB"] if r.random() < 0.3 and ending not in (".xlsx", ".jsonl") else []
    )
    code, out, err = run([*words, "--json"])
    wrong = problem(code, out, err, True)
    if wrong or code not in (0, 4):
        return wrong or f"refused: {err.strip()[-150:]}"
    found = {g["group"]: g["levels"] for g in json.loads(out)["groups"]}
    if found["plot"] != len(labels):
        return f"{found['plot']} units for {len(labels)} labels such as {labels[:3]} in {path}"
    code, out, err = run(["groups", "ids", "--json"])
    if code not in (0, 4):
        return problem(code, out, err, True)
    told = {row["level"] for g in json.loads(out)["groups"] for row in g["rows"]}
    return (
        None
        if told == set(labels)
        else f"labels changed: {sorted(told - set(labels))[:3]} for {sorted(set(labels) - told)[:3]} in {path}"
    )


def state(folder: Path) -> dict[str, str]:
    """Every file below a folder, and what it holds."""
    return {
        str(p.relative_to(folder)): os.readlink(p) if p.is_symlink() else hashlib.sha256(p.read_bytes()).hexdigest()
        for p in sorted(folder.rglob("*"))
        if p.is_symlink() or p.is_file()
    }


def of_targets(seed: int, r: random.Random) -> str | None:
    """Data and saved fits stay as they are, wherever a command is told to write."""
    for name, aim in (("link.csv", "t.csv"), ("link.fit.json", "kept.fit.json"), ("out.lnk", "away.csv")):
        Path(name).unlink(missing_ok=True)
        os.symlink(aim, name)
    places = ["t.csv", "./t.csv", str(Path("t.csv").resolve()), "link.csv", "kept.fit.json", "link.fit.json", "sub/../t.csv", "/dev/null", "sub", "sub/", "no/x.csv", "", "new.csv",
              "new.html", "new.png", "out.lnk", ".", "..", "/", "new.csv/"]  # fmt: skip
    command = r.choice((["predict", "kept"], ["groups", "kept"], ["show", "kept"], ["check", "kept"], ["fit", "t.csv", SENTENCE], ["means", "kept", "soil"], ["scout", "t.csv"],
                        ["simulate", "kept"], ["draw", "kept"], ["table", "kept"], ["report", "kept"], ["plan", "kept"], ["equations", "kept"]))  # fmt: skip
    options = [
        w for o in r.sample(("--csv", "--to", "--figure", "--to"), r.randint(1, 3)) for w in (o, r.choice(places))
    ]
    before = {n: hashlib.sha256(Path(n).read_bytes()).hexdigest() for n in ("t.csv", "kept.fit.json")}
    wrong = problem(*run([*command, *options]), False)
    after = {n: hashlib.sha256(Path(n).read_bytes()).hexdigest() if Path(n).is_file() else "gone" for n in before}
    if after != before or not Path("link.csv").is_symlink():
        shutil.copy("safe.csv", "t.csv")
        shutil.copy("safe.fit.json", "kept.fit.json")
        return f"{command + options} changed {[n for n in before if after[n] != before[n]]}"
    left = [p.name for p in Path().iterdir() if p.name.startswith(".orchard") or p.name.endswith(".tmp")]
    return wrong or (f"{command + options} left {left}" if left else None)


def of_plans(seed: int, r: random.Random) -> str | None:
    """A plan of a stranger changes nothing outside the folder of its run, checked or carried out."""
    homes = (
        "../x",
        "../../home/x",
        "/tmp/orchard-fuzz-x",
        "~/x",
        "a/../../x",
        "ok",
        "sub/ok",
        "",
        ".",
        "..",
        "-x",
        "--csv=../x",
        "t",
        "con",
        "a\\..\\..\\x",
        "$HOME/x",
        "\u202ex",
    )

    def place(ending: str) -> str:
        return json.dumps(r.choice(homes) + ending)

    step = r.choice((f"csv = {place('.csv')}", f"to = {place('.html')}", f"to = [{place('.md')}, {place('.html')}]", f"figure = {place('.png')}", f"term = [\"rain\", {place('')}]",
                     f"keep = {place('.csv')}", f"save = {place('')}", f"matrices = {place('')}", f"name = {place('')}", f"cluster = {place('')}", f"data = {place('.csv')}"))  # fmt: skip
    text = PLAN.format(fit=r.choice(("", f"save = {place('')}", f"to = {place('.html')}", 'cluster = "tcp://127.0.0.1:1"')), command=r.choice(("groups", "means", "show", "predict", "run", "demo", "fit")),
                       step=f'fit = "one"\n{step}', report=r.choice(("", f"[report]\nfits = [\"one\"]\nto = {place('.html')}")))  # fmt: skip
    with tempfile.TemporaryDirectory() as home:
        inside = Path(home, "a", "b")
        inside.mkdir(parents=True)
        shutil.copy("t.csv", inside / "t.csv")
        (inside / "plan.toml").write_text(text, encoding="utf-8")
        before, here = state(Path(home)), os.getcwd()
        os.chdir(inside)
        try:
            wrong = problem(*run(["run", "plan.toml", *r.choice(([], ["--check"], ["--into", "made"]))]), False)
        finally:
            os.chdir(here)
        after = state(Path(home))
        odd = [n for n in after if before.get(n) != after[n] and not n.startswith(("a/b/plan/", "a/b/made/"))]
        odd += [n for n in before if n not in after] + [str(p) for p in Path("/tmp").glob("orchard-fuzz-x*")]
    return wrong or (f"{text!r} changed {odd}" if odd else None)


def of_escapes(seed: int, r: random.Random) -> str | None:
    """Labels are shown, never obeyed, on every page and in every file of text."""
    signs = [[chr(r.choice(OBEYED)), "a", "\u00e9", "]", "{", "%"] for _ in range(6)]
    frame = table(r, list(dict.fromkeys(r.choice(BEGINNINGS) + "".join(r.choices(s, k=3)) for s in signs)))
    frame.to_csv("e.csv", index=False)
    run(["fit", "e.csv", SENTENCE, "--save", "e", "--force", "--quiet"])
    target = "e" + r.choice((".html", ".md", ".tex", ".txt"))
    Path(target).unlink(missing_ok=True)
    command = r.choice(
        (
            ["groups", "e"],
            ["show", "e"],
            ["check", "e"],
            ["scout", "e.csv"],
            ["table", "e"],
            ["predict", "e"],
            ["draw", "e", "--figure", "e.png"],
        )
    )
    code, out, err = run([*command, "--to", target])
    written = Path(target).read_text(encoding="utf-8") if Path(target).exists() else ""
    obeyed = {c for c in out + err + written if ord(c) in OBEYED}
    return problem(code, out, err, False) or (f"{command} obeys {obeyed}" if obeyed else None)


def of_sizes(seed: int, r: random.Random) -> str | None:
    """Sizes beyond all bounds end soon, with a word."""
    size = r.choice(SIZES)
    words = r.choice((
        ["power", "kept", f"--rows={size}"], ["power", "kept", f"--units=plot={size}"], ["power", "kept", f"--runs={size}"], ["simulate", "kept", f"--draws={size}", "--to", "s.csv"],
        ["sample", "kept", f"--draws={size}"], ["sample", "kept", f"--warmup={size}"], ["sample", "kept", f"--chains={size}"], ["intervals", "kept", f"--bootstrap={size}"],
        ["compare", "kept", "null", f"--bootstrap={size}"], ["carry", "kept", "t.csv", "rain = effect(plot: intercept)", f"--imputations={size}"], ["fit", "t.csv", SENTENCE, f"--memory={size}"],
        ["fit", "t.csv", SENTENCE, f"--max-steps={size}"], ["fit", "t.csv", SENTENCE, f"--digits={size}"], ["fit", "t.csv", f"yield = power(rain, {size or 1}); each plot: intercept"],
        ["fit", "t.csv", f"yield = lag(rain, {size or 1}); each plot: intercept"], ["draw", "kept", f"--seed={size}"], ["fit", "t.csv", SENTENCE, f"--points={size}"],
    ))  # fmt: skip
    code, out, err = run(words)
    wrong = problem(code, out, err, False)
    return f"{words}: {wrong}" if wrong else None


MAKERS = dict(zip(KINDS, (of_ids, of_targets, of_plans, of_escapes, of_sizes)))


def prepare() -> None:
    """Data and fits to be attacked, in the folder at hand."""
    r = random.Random(3)
    frame = table(r, [f"p{i}" for i in range(8)])
    frame["soil"] = ["clay" if i % 2 else "sand" for i in range(len(frame))]
    frame.to_csv("t.csv", index=False)
    Path("sub").mkdir()
    Path("away.csv").write_text("away\n")
    for sentence, name in (
        (SENTENCE.replace("rain", "rain + soil"), "kept"),
        ("yield = soil; each plot: intercept", "null"),
    ):
        code, _, err = run(["fit", "t.csv", sentence, "--save", name])
        assert code in (0, 4), err
    shutil.copy("t.csv", "safe.csv")
    shutil.copy("kept.fit.json", "safe.fit.json")


def trouble(seed: int, kind: str | None = None) -> str | None:
    """What goes wrong with one seed, or nothing."""
    kind = kind or KINDS[seed % len(KINDS)]
    wrong = MAKERS[kind](seed, random.Random(seed))
    return None if wrong is None else f"{seed} {kind} | {wrong}"


if __name__ == "__main__":
    sys.exit(rounds(prepare, trouble))
