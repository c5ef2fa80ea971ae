"""Carry out a plan: fits, comparisons, checks, tables and report, keeping what has not changed."""

from __future__ import annotations

import argparse
import contextlib
import io
import os
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import output_options, say

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps
    from bold_orchard.studies.plan import Key

EXAMPLE = """examples:
  orchard run plan.toml
  orchard run plan.toml --data corrected.csv --into corrected
  orchard run plan.toml --only report
  orchard run plan.toml --check
"""
READ = ("data", "labels", "new", "posterior", "design")  # options that name files to read
FITS = ("fit", "fits", "against", "from")  # options that name fits


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "plan", metavar="PLAN", help="a plan file (.toml); make one with: orchard plan FIT ... --to plan.toml"
    )
    parser.add_argument(
        "--into", metavar="FOLDER", help="where results go (default: a folder beside the plan, called as the plan)"
    )
    parser.add_argument("--only", metavar="NAME", help="this step or fit, and what it needs")
    parser.add_argument("--data", metavar="FILE", help="another data file in place of the plan's")
    parser.add_argument("--cluster", metavar="ADDRESS", help="the workers, for fits of the plan that ask for some")
    parser.add_argument(
        "--check", action="store_true", help="say what would run, be written and be called, and do nothing"
    )
    output_options(parser, idle=("figure", "confidence", "strips", "seed"))


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    made, args.code = carried_out(
        args.plan, args.into, args.only, args.data, args.check, args.cluster, lambda text: say(args, text)
    )
    return made


def carried_out(
    path: str, into: str | None, only: str | None, data: str | None, check: bool, cluster: str | None, tell: Any
) -> tuple[Answer, int]:  # fmt: skip
    """Run a plan; its answer and its exit code."""
    from bold_orchard.answers import Answer
    from bold_orchard.studies.plan import read_plan
    from bold_orchard.studies.run import Workshop, carry_out

    commands = all_keys()
    plan = read_plan(path, commands, data, cluster)
    target = (Path(into) if into else Path(path).with_suffix("")).resolve()
    with _inside(plan.folder):
        result, code = carry_out(plan, target, Workshop(commands, perform, examine, tell), only, check)
    return Answer(result), code


def all_keys() -> dict[str, dict[str, Key]]:
    """Of every command the keys that a plan may use: its options, and the places it takes."""
    from bold_orchard.cli.main import COMMANDS, parser_of

    out = {}
    for name in COMMANDS:
        module, parser = parser_of(name)
        if not hasattr(module, "COMMAND"):
            continue
        others = {o.replace("_", "-") for o in (*module.COMMAND.other_files, *module.COMMAND.folders)}
        out[name] = {
            _key(a): _how(a, others) for a in parser._actions if _key(a) not in ("help", "json", "quiet", "save")
        }
    return out


def _key(action: argparse.Action) -> str:
    return action.option_strings[-1].lstrip("-") if action.option_strings else action.dest


def _how(action: argparse.Action, others: set[str]) -> Key:
    from bold_orchard.studies.plan import Key

    key = _key(action)
    kind = "one"
    if not action.option_strings:
        kind = "places"
    elif action.nargs == 0:
        kind = "flag"
    elif isinstance(action, argparse._AppendAction):
        kind = "many"
    return Key(kind, key in ("to", "csv", "figure", *others), key in READ, key in FITS)


def perform(words: list[str]) -> tuple[int, str]:
    """A command as its own process would do it; its exit code, and what it complained of."""
    from bold_orchard.cli.main import main

    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err), _usual_width():
        code = main(words)
    lines = [line for line in err.getvalue().splitlines() if line.strip()]
    return code, next((line for line in lines if line.startswith("orchard: ")), lines[0] if lines and code else "")


def examine(words: list[str]) -> None:
    """Raise OrchardError for what a command would refuse before it reads or works."""
    from bold_orchard.cli.driver import make_ready
    from bold_orchard.cli.main import parser_of
    from bold_orchard.sentence.parse import read_sentence

    module, parser = parser_of(words[0])
    args = parser.parse_args(words[1:])
    args.words = words[1:]
    if getattr(args, "earlier", None) is None:  # the edit of a fit that may not be there yet
        make_ready(module.COMMAND, args)
    if getattr(args, "sentence", None):
        read_sentence(args.sentence)


@contextlib.contextmanager
def _usual_width() -> Iterator[None]:
    """Pages as wide as in a pipe, whatever the terminal: the same files from everywhere."""
    kept = os.environ.pop("COLUMNS", None)
    try:
        yield
    finally:
        if kept is not None:
            os.environ["COLUMNS"] = kept


@contextlib.contextmanager
def _inside(folder: Path) -> Iterator[None]:
    """Names of files in a plan are meant from the plan's folder."""
    home = Path.cwd()
    os.chdir(folder)
    try:
        yield
    finally:
        os.chdir(home)


def run(
    path: str, into: str | None = None, *, only: str | None = None, data: str | None = None, check: bool = False, cluster: str | None = None
) -> Answer:  # fmt: skip
    """Carry out a plan file: fits, comparisons, checks, tables and report, keeping what has not changed.

    Parameters
    ----------
    path : of the plan.
    into : where results go (default: a folder beside the plan, called as the plan).
    only : this step or fit, and what it needs.
    data : another data file in place of the plan's.
    check : say what would run, and do nothing.
    cluster : the workers, for fits of the plan that ask for some.

    Returns
    -------
    Answer
        prints as the page; ``to_frame()`` is a row for each step.

    Raises
    ------
    OrchardError : with its line, for what a plan cannot mean; what a step finds wrong is in its row.
    """
    return carried_out(path, into, only, data, check, cluster, lambda text: None)[0]


def typed(step: Any) -> list[str]:
    """A step as a person would type it in the folder of its results."""
    keys = all_keys()[step.command]
    places = [v for k, how in keys.items() if how.kind == "places" for v in _listed(step.options.get(k))]
    out = [step.command, *places]
    for key, value in step.options.items():
        kind = keys[key].kind
        if kind == "flag":
            out += [f"--{key}"] if value else []
        elif kind == "many":
            out += [w for v in _listed(value) for w in (f"--{key}", v)]
        elif kind == "one":
            out += [f"--{key}", ",".join(_listed(value))]
    return [*out, "--save", step.name] if step.command == "fit" else out


def _listed(value: Any) -> list[str]:
    return [] if value is None else [str(v) for v in value] if isinstance(value, list) else [str(value)]


def code_of(args: argparse.Namespace) -> int:
    return int(getattr(args, "code", 0))


COMMAND = Command(str(__doc__), EXAMPLE, add_options, answer, code=code_of)
