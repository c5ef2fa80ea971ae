"""Options that mean the same in every command, and the one place that prints and writes results."""

from __future__ import annotations

import argparse
import json
import math
import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bold_orchard.errors import OrchardError, UsageError, nearest
from bold_orchard.results.plain import clean

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure

    from bold_orchard.reporting.page import Page

SEED = 20260101
FORMS = (".html", ".md", ".txt", ".csv", ".json")
RENAMED = {"--pairs": "--differences", "--adjust": "--correction", "--at": "--hold"}


class Parser(argparse.ArgumentParser):
    """argparse with one-line errors and no guessing at abbreviated options."""

    def __init__(self, prog: str, description: str | None, epilog: str) -> None:
        super().__init__(prog=prog, description=description, epilog=epilog, allow_abbrev=False)

    def error(self, message: str) -> Any:
        raise UsageError(f"{message}; see: {self.prog} --help")

    def parse_args(self, args: Any = None, namespace: Any = None) -> Any:
        """Parse; an option of an older name, or misspelt, is answered with the right one."""
        args = _joined(list(args or []))
        choices = {o: a.choices for a in self._actions for o in a.option_strings if a.choices}
        for at, word in enumerate(args):  # REML and reml are one word
            option, sign, value = word.partition("=")
            if sign and value.lower() in choices.get(option, ()):
                args[at] = f"{option}={value.lower()}"
            elif at and word.lower() in choices.get(args[at - 1], ()):
                args[at] = word.lower()
        known = [o for action in self._actions for o in action.option_strings if o.startswith("--")]
        for word in args:
            option = word.split("=", 1)[0]
            if option == "--":
                break
            if not option.startswith("--") or option in known:
                continue
            new = RENAMED.get(option)
            if new in known:
                raise UsageError(f"{option} is now written {new}")
            near = nearest(option, known)
            raise UsageError(
                f"{self.prog} has no option {option}"
                + (f"; did you mean {near}?" if near else f"; see: {self.prog} --help")
            )
        return super().parse_args(args, namespace)


def _joined(words: list[str]) -> list[str]:
    """A text that begins with a minus belongs to the option before it: --contrast "-hard + none"."""
    out: list[str] = []
    for word in words:
        if out and out[-1] in ("--contrast", "--where", "--missing") and word[:1] == "-" and word[:2] != "--":
            out[-1] += f"={word}"
        else:
            out.append(word)
    return out


def fit_argument(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("fit", metavar="FIT", help="a name given to --save, or the path of its file")


def output_options(parser: argparse.ArgumentParser) -> None:
    group = parser.add_argument_group("output, the same in every command")
    group.add_argument("--json", action="store_true", help="one JSON document on standard output and nothing else")
    group.add_argument("--csv", metavar="FILE", help="the main table as CSV")
    group.add_argument("--figure", metavar="FILE", help="the command's picture: .png, .svg or .pdf")
    group.add_argument("--to", metavar="FILE", action="append", default=[],
                       help="the whole printed result as .html, .md, .txt, .csv or .json (repeatable)")  # fmt: skip
    group.add_argument("--confidence", metavar="LEVEL", type=_level, help="level of every interval (default 0.95)")
    group.add_argument("--digits", metavar="N", type=_digits, default=4, help="significant digits in text (default 4)")
    group.add_argument("--seed", metavar="N", type=int, default=SEED, help=f"for whatever is random (default {SEED})")
    group.add_argument("--quiet", action="store_true", help="no progress, no notes")


def data_options(parser: argparse.ArgumentParser) -> None:
    group = parser.add_argument_group("rows and cells")
    group.add_argument("--missing", metavar="CODE", action="append", default=[],
                       help="a value that means missing, for all columns or as COLUMN=CODE (repeatable)")  # fmt: skip
    group.add_argument("--where", metavar="EXPRESSION", help='use only the rows for which it holds: "season > 2"')


def _level(text: str) -> float:
    try:
        value = float(text)
    except ValueError:
        value = math.nan
    if not 0 < value < 1:
        raise argparse.ArgumentTypeError(f"a confidence level lies between 0 and 1, not '{text}'")
    return value


def _digits(text: str) -> int:
    if not text.isdigit() or not 1 <= int(text) <= 15:
        raise argparse.ArgumentTypeError(f"digits are a whole number from 1 to 15, not '{text}'")
    return int(text)


def check_targets(args: argparse.Namespace) -> None:
    """Refuse output files that cannot be written, before any work is done."""
    if args.figure:
        from bold_orchard.reporting.figures.style import check_ending

        check_ending(args.figure)
    for path in args.to:
        if Path(path).suffix.lower() not in FORMS:
            raise UsageError(f"--to writes {', '.join(FORMS)}, not '{Path(path).suffix or path}'; give another ending")
    for path in (args.csv, args.figure, getattr(args, "save", None), getattr(args, "csv_units", None), *args.to):
        if path is None:
            continue
        folder = Path(path).parent
        if not folder.is_dir():
            raise OrchardError(f"{path} cannot be written: there is no folder {folder}; make it first")
        if Path(path).is_dir():
            raise OrchardError(f"{path} is a folder; give a file name")


def deliver(
    args: argparse.Namespace,
    document: dict[str, Any],
    page: Callable[[dict[str, Any], int], Page],
    table: Callable[[], list[dict[str, Any]] | pd.DataFrame] | None = None,
    figure: Callable[[], Figure] | None = None,
) -> None:
    """Write the files asked for, then print the document or its page."""
    from bold_orchard.storage.saved_fits import write_safely

    if args.figure and figure is None:
        raise UsageError("this command has no picture yet; leave out --figure")
    if args.csv and table is not None:
        write_csv(args.csv, table())
    if args.figure and figure is not None:
        from bold_orchard.reporting.figures.style import save

        made = figure()
        write_safely(args.figure, lambda path: save(made, path))
    for path in args.to:
        _write_as(path, document, lambda: page(document, args.digits), table)
    if args.json:
        json.dump(clean(document), sys.stdout, indent=1, allow_nan=False, ensure_ascii=False)
        sys.stdout.write("\n")
        return
    from bold_orchard.reporting.page import print_page

    if args.quiet:
        document = document | {"notes": []}
    print_page(page(document, args.digits), sys.stdout)
    if sys.stdout.isatty() and not args.quiet:
        from bold_orchard.cli.hints import following

        hint = following(args, document)
        dim, plain = ("", "") if os.environ.get("NO_COLOR") else ("\x1b[2m", "\x1b[0m")
        print(f"\n{dim}next: {hint}{plain}" if hint else "")


def _write_as(
    path: str, document: dict[str, Any], page: Callable[[], Page],
    table: Callable[[], list[dict[str, Any]] | pd.DataFrame] | None,
) -> None:  # fmt: skip
    """The whole result in the form that the ending names."""
    from bold_orchard.reporting.formats.markup import rendered
    from bold_orchard.storage.saved_fits import write_safely

    ending = Path(path).suffix.lower()
    if ending == ".csv":
        if table is None:
            raise UsageError("this command has no table; leave out --to with .csv")
        write_csv(path, table())
        return
    if ending == ".json":
        text = json.dumps(clean(document), indent=1, allow_nan=False, ensure_ascii=False) + "\n"
    else:
        text = rendered(page(), ending, str(document.get("name", "Bold Orchard")))
    write_safely(path, lambda p: p.write_text(text, encoding="utf-8"))


def write_csv(path: str, rows: list[dict[str, Any]] | pd.DataFrame) -> None:
    import csv

    from bold_orchard.storage.saved_fits import write_safely

    def write(p: Path) -> None:
        if not isinstance(rows, list):
            rows.to_csv(p, index=False, lineterminator="\n")
            return
        with p.open("w", newline="", encoding="utf-8") as f:
            writer = csv.DictWriter(f, list(dict.fromkeys(k for r in rows for k in r)), lineterminator="\n")
            writer.writeheader()
            writer.writerows(rows)

    write_safely(path, write)


def say(args: argparse.Namespace, text: str) -> None:
    """A remark on standard error."""
    if not args.quiet:
        print(text, file=sys.stderr)
