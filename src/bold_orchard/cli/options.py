"""Options that mean the same in every command."""

from __future__ import annotations

import argparse
import math
import re
import sys
from collections.abc import Collection
from pathlib import Path
from typing import Any

from bold_orchard.errors import UsageError, nearest

SEED = 20260101  # any fixed number, so that the same command gives the same answer
SMALLEST, LARGEST = 200, 10_000  # pixels of a picture each way
RENAMED = {"--pairs": "--differences", "--adjust": "--correction", "--at": "--hold"}


class Parser(argparse.ArgumentParser):
    """argparse with one-line errors and no guessing at abbreviated options."""

    def __init__(self, prog: str, description: str | None, epilog: str) -> None:
        super().__init__(prog=prog, description=description, epilog=epilog, allow_abbrev=False)

    def error(self, message: str) -> Any:
        wrong = re.fullmatch(r"argument (\S+): invalid choice: '(.*)' \(choose from (.*)\)", message)
        if wrong is not None:
            option, word, choices = wrong[1], wrong[2], wrong[3].replace("'", "")
            near = nearest(word.lower(), choices.split(", "))
            raise UsageError(
                f"{option} has no '{word}'; " + (f"did you mean '{near}'?" if near else f"there are: {choices}")
            )
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


def posterior_option(parser: argparse.ArgumentParser) -> None:
    """The option of commands that answer from draws too."""
    parser.add_argument("--posterior", metavar="FILE",
                        help="answer from the draws that orchard sample FIT --keep FILE wrote, not from the likelihood alone")  # fmt: skip


def one_outcome_option(parser: argparse.ArgumentParser) -> None:
    """The option of commands that answer by outcome where a fit has several."""
    parser.add_argument(
        "--outcome", metavar="NAME", help="of several outcomes this one (default: all; in pictures the first)"
    )


def part_option(parser: argparse.ArgumentParser) -> None:
    """The option of commands that answer about a linear predictor beside the mean's."""
    parser.add_argument(
        "--part",
        metavar="PART",
        help="of the part zeros or spread, or of one level of an unordered outcome (default: the whole outcome)",
    )


def fit_argument(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "fit",
        metavar="FIT",
        nargs="?",
        help="a name given to --save, or the path of its file (default: the fit saved last here)",
    )


def fill_in_fit(args: argparse.Namespace) -> None:
    """The fit saved last in this folder where none is named, and said; raises UsageError where there is none."""
    from bold_orchard.storage.save_path import last_saved, save_path

    several = "fits" in vars(args)
    named = (args.fits or [None])[0] if several else args.fit
    if named is not None and (getattr(args, "term", "") is not None or _is_fit(named)):
        return
    last = last_saved()
    if last is None and named is None:
        raise UsageError("no fit is saved in this folder yet; make one with: orchard fit DATA SENTENCE --save NAME")
    if last is None:
        return
    if several:
        args.fits = [last]
    else:
        args.term, args.fit = named, last
    say(args, f"of the fit saved last here, {save_path(last)}")


def _is_fit(name: str) -> bool:
    from bold_orchard.storage.save_path import save_path

    return any(path.is_file() for path in (Path(name), save_path(name)))


def output_options(parser: argparse.ArgumentParser, idle: Collection[str] = ()) -> None:
    """Options of every command; those that mean nothing to this one (``idle``) are not offered, though taken."""

    def offered(option: str, text: str) -> str:
        return argparse.SUPPRESS if option in idle else text

    group = parser.add_argument_group("output, spelled the same in every command")
    group.add_argument("--json", action="store_true", help="one JSON document on standard output and nothing else")
    group.add_argument("--csv", metavar="FILE", help="the main table as CSV")
    group.add_argument("--figure", metavar="FILE", help=offered("figure", "the command's picture: .png, .svg or .pdf"))
    parser.set_defaults(size=None, dpi=None, figure_title=None)
    if "figure" not in idle:
        group.add_argument(
            "--size", metavar="WxH", type=_size, help="pixels of the picture at 100 dpi: 900x600 (default: 1280x800)"
        )
        group.add_argument(
            "--dpi", metavar="N", type=_dpi, help="pixels per inch of the picture: 300 for print (default: 100)"
        )
        group.add_argument("--title", metavar="TEXT", dest="figure_title", help="what stands above the picture")
    group.add_argument("--to", metavar="FILE", action="append", default=[],
                       help="the whole printed result as .html, .docx, .tex, .md, .txt, .csv or .json (repeatable)")  # fmt: skip
    group.add_argument(
        "--confidence",
        metavar="LEVEL",
        type=_level,
        help=offered("confidence", "level of every interval (default 0.95)"),
    )
    group.add_argument("--digits", metavar="N", type=_digits, default=4, help="significant digits in text (default 4)")
    group.add_argument("--strips", action="store_true",
                       help=offered("strips", "small strips beside tables in pipes too: intervals around zero, shares (on terminals always)"))  # fmt: skip
    group.add_argument(
        "--seed",
        metavar="N",
        type=_seed,
        default=SEED,
        help=offered("seed", f"for whatever is random (default {SEED})"),
    )
    group.add_argument("--quiet", action="store_true", help="no progress, no notes")


def errors_option(parser: argparse.ArgumentParser | argparse._ArgumentGroup) -> None:
    """The option of commands that print errors of coefficients or means."""
    parser.add_argument(
        "--errors",
        metavar="KIND",
        help="robust (over the topmost unit), robust=UNIT, or model (default: those of the fit)",
    )


def fit_tables(parser: argparse.ArgumentParser) -> None:
    """Further tables of a fit as CSV."""
    parser.add_argument("--csv-variation", metavar="FILE", help="variances, correlations and the residual as CSV")
    parser.add_argument("--csv-figures", metavar="FILE", help="rows, units, likelihood figures and convergence as CSV")


def outcome_options(group: argparse._ArgumentGroup) -> None:
    """What a model's outcome is, and how it is estimated: the same wherever a model is fitted."""
    from bold_orchard.families import names

    group.add_argument("--method", choices=("reml", "ml"), default="reml", help="default: reml")
    group.add_argument("--baseline", metavar="COLUMN=LEVEL", action="append", default=[],
                       help="the level others are compared with (repeatable)")  # fmt: skip
    group.add_argument("--df", choices=("residual", "normal", "satterthwaite", "kenward-roger"), default="satterthwaite",
                       help="degrees of freedom of the tests (default: satterthwaite; normal gives z)")  # fmt: skip
    group.add_argument("--weights", metavar="COLUMN", help="the residual variance is sigma^2 / weight")
    group.add_argument("--family", choices=names(), help="default: gaussian")
    group.add_argument("--link", metavar="LINK", help="default: the family's own")
    group.add_argument("--success", metavar="LEVEL", help="which of two levels counts as success (default: the later)")
    group.add_argument(
        "--grades", metavar="LEVELS", help="grades of an ordinal outcome, lowest first: none,mild,severe"
    )
    group.add_argument("--ratios", action="store_true", help="also odds, rate or hazard ratios")
    group.add_argument("--force", action="store_true", help="go on where the tool would stop")


def outcome_given(args: argparse.Namespace) -> dict[str, Any]:
    """The options of ``outcome_options`` as the Python interface takes them."""
    grades = [g.strip() for g in (args.grades or "").split(",") if g.strip()]
    given = {k: getattr(args, k) for k in ("method", "df", "weights", "family", "link", "success", "ratios", "force")}
    return given | {"baseline": baselines(args.baseline), "grades": grades}


def baselines(entries: list[str]) -> dict[str, str]:
    out = {}
    for entry in entries:
        column, sign, level = entry.partition("=")
        if not sign or not column or not level:
            raise UsageError(f"--baseline is written COLUMN=LEVEL, not '{entry}'")
        out[column.strip()] = level.strip()
    return out


def write_fit_tables(args: argparse.Namespace, answer: Any) -> None:
    """The tables of ``fit_tables`` that were asked for."""
    from bold_orchard.storage.files import write_rows

    for path, rows in (
        (args.csv_variation, answer.result.variation_table),
        (args.csv_figures, answer.result.figures_table),
    ):
        if path:
            write_rows(path, rows())


def data_options(parser: argparse.ArgumentParser) -> None:
    group = parser.add_argument_group("rows and cells")
    group.add_argument("--missing", metavar="CODE", action="append", default=[],
                       help="a value that means missing, for all columns or as COLUMN=CODE (repeatable)")  # fmt: skip
    group.add_argument("--where", metavar="EXPRESSION", help='use only the rows for which it holds: "season > 2"')


def order_option(parser: argparse.ArgumentParser) -> None:
    """The option of commands that read levels."""
    parser.add_argument("--order", metavar="COLUMN=A,B,C", action="append", default=[],
                        help="the levels of a column in their order, the baseline first (repeatable)")  # fmt: skip


def label_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--label", metavar="COLUMN[:LEVEL]=TEXT", action="append", default=[],
                        help="a text for a column or one of its levels, on pages and pictures (repeatable)")  # fmt: skip
    parser.add_argument("--labels", metavar="FILE",
                        help="texts and orders of levels in TOML (default: NAME.labels.toml beside the data, where there is one)")  # fmt: skip


def orders(entries: list[str]) -> dict[str, list[str]]:
    out = {}
    for entry in entries:
        column, sign, levels = entry.partition("=")
        named = [v.strip() for v in levels.split(",")]
        if not sign or not column.strip() or not all(named):
            raise UsageError(f"--order is written COLUMN=LEVEL,LEVEL,LEVEL, not '{entry}'")
        out[column.strip()] = named
    return out


def _level(text: str) -> float:
    try:
        value = float(text)
    except ValueError:
        value = math.nan
    if not 0 < value < 1:
        raise argparse.ArgumentTypeError(f"a confidence level lies between 0 and 1, not '{text}'")
    return value


def _seed(text: str) -> int:
    if not text.strip().isdecimal():
        raise argparse.ArgumentTypeError(f"a seed is a whole number, 0 or more, not '{text}'")
    return int(text)


def _size(text: str) -> tuple[int, int]:
    made = re.fullmatch(r"(\d+)\s*[x×]\s*(\d+)", text.strip())
    if made is None or not all(SMALLEST <= int(n) <= LARGEST for n in made.groups()):
        raise argparse.ArgumentTypeError(
            f"a size is two numbers of pixels from {SMALLEST} to {LARGEST:,}, 900x600, not '{text}'"
        )
    return int(made[1]), int(made[2])


def _dpi(text: str) -> int:
    if not text.isdecimal() or not 20 <= int(text) <= 1200:
        raise argparse.ArgumentTypeError(f"dpi is a whole number from 20 to 1200, not '{text}'")
    return int(text)


def _digits(text: str) -> int:
    if not text.isdigit() or not 1 <= int(text) <= 15:
        raise argparse.ArgumentTypeError(f"digits are a whole number from 1 to 15, not '{text}'")
    return int(text)


def say(args: argparse.Namespace, text: str) -> None:
    """A remark on standard error."""
    if not args.quiet:
        print(text, file=sys.stderr)
