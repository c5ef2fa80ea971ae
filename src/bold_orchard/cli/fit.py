"""Fit a linear or generalized mixed-effects model: average effects, and how much groups vary."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import (
    Parser,
    data_options,
    errors_option,
    fit_tables,
    label_options,
    order_option,
    orders,
    outcome_given,
    outcome_options,
    output_options,
    say,
    write_fit_tables,
)
from bold_orchard.errors import UsageError

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.api import Model
    from bold_orchard.cli.progress import Steps
    from bold_orchard.sentence.tree import Sentence
    from bold_orchard.wording import Wording

KEPT = (".csv", ".parquet")
EXAMPLE = """examples:
  orchard fit harvest.csv "yield = intercept; each orchard: intercept" --missing -999 --save empty
  orchard fit --from empty --add "rain + soil" --each "tree in orchard: intercept" --save rain
  orchard fit blossom.csv "fruit of counted = bees + late_frost; each orchard: intercept" --ratios
  orchard fit pests.csv "moths = week + netting; each orchard: intercept" --family poisson
  orchard fit harvest.csv "yield = centre(rain) + pruning; each orchard: intercept + centre(rain)" \\
      --missing -999 --baseline pruning=none --save slopes
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "data",
        metavar="DATA",
        nargs="?",
        help="CSV, TSV, Parquet, xlsx, ods or JSON lines, a folder or a quoted pattern of such files; - for CSV on standard input",
    )
    parser.add_argument(
        "sentence", metavar="SENTENCE", nargs="?", help='the model: "yield = rain; each orchard: intercept"'
    )
    edits = parser.add_argument_group("from a saved fit, whose data and options hold unless given anew")
    edits.add_argument("--from", dest="earlier", metavar="FIT", help="the saved fit whose sentence is edited")
    edits.add_argument("--add", metavar="TERMS", action="append", default=[], help='more terms: "soil + rain"')
    edits.add_argument("--drop", metavar="TERMS", action="append", default=[], help="terms left out")
    edits.add_argument("--each", metavar='"UNIT: TERMS"', action="append", default=[],
                       help="an each clause more, or in the place of its unit's")  # fmt: skip
    edits.add_argument("--without-each", metavar="UNIT", action="append", default=[], help="a unit left out")
    edits.add_argument("--outcome", metavar="NAME", help="another outcome")
    group = parser.add_argument_group("the model")
    group.add_argument("--save", metavar="NAME", help="keep the fit as NAME.fit.json")
    outcome_options(group)
    group.add_argument("--fill-mean", metavar="COLUMN", action="append", default=[],
                       help="fill a covariate's gaps with its mean (repeatable); its errors are then too small, see --impute")  # fmt: skip
    group.add_argument("--impute", metavar="N", type=int,
                       help="keep rows with missing covariates: draw what is missing N times, fit each completed table and pool")  # fmt: skip
    group.add_argument("--impute-with", metavar="COLUMN", action="append", default=[],
                       help="a column beside the sentence that helps to draw (repeatable)")  # fmt: skip
    group.add_argument(
        "--keep", metavar="FILE", help="the completed tables of --impute, one under the other: .csv or .parquet"
    )
    group.add_argument("--points", metavar="K", type=_points, default=1,
                       help="quadrature points per random effect, or auto; 1 is Laplace (default)")  # fmt: skip
    errors_option(group)
    group.add_argument("--effects", action="store_true", help="also average effects on the outcome's own scale")
    group.add_argument(
        "--tolerance", metavar="X", type=float, default=1e-10, help="expected further change of the deviance"
    )
    group.add_argument("--max-steps", metavar="N", type=int, default=100, help="steps of the search (default 100)")
    data_options(parser)
    order_option(parser)
    label_options(parser)
    parser.add_argument(
        "--cluster", metavar="ADDRESS", help="workers of a Dask scheduler read the pieces: its address, or local:N"
    )
    parser.add_argument(
        "--memory",
        metavar="SIZE",
        help="larger data are read in pieces: 2GB, 500MB (default: a quarter of the machine's)",
    )
    fit_tables(parser)
    output_options(parser)


def prepare(args: argparse.Namespace) -> None:
    from bold_orchard.tables import check_missing_syntax

    edited = [o for o in ("add", "drop", "each", "without_each", "outcome") if getattr(args, o)]
    if args.earlier is not None:
        _edit(args)
    elif edited:
        raise UsageError(f"--{edited[0].replace('_', '-')} edits a saved fit; name it with --from FIT")
    elif args.sentence is None:
        raise UsageError("fit needs DATA and SENTENCE, or --from a saved fit; see: orchard fit --help")
    if not args.tolerance > 0:
        raise UsageError("--tolerance must be above zero")
    if args.max_steps < 1:
        raise UsageError("--max-steps must be 1 or more")
    check_missing_syntax(args.missing)
    if args.keep and args.impute is None:
        raise UsageError("--keep writes the completed tables of --impute N; leave it out, or add --impute 20")
    if args.keep and not args.keep.lower().endswith(KEPT):
        raise UsageError(f"--keep writes {' or '.join(KEPT)}, not '{args.keep}'; give another ending")


def _edit(args: argparse.Namespace) -> None:
    """The sentence, the data and the options of a saved fit, with what is given here in their place."""
    from bold_orchard.sentence.edit import Edits
    from bold_orchard.sentence.parse import read_sentence
    from bold_orchard.storage.saved_fits import as_asked

    if args.sentence is not None:
        raise UsageError(
            "--from takes the sentence of the saved fit; leave SENTENCE out, or edit it with --add and --drop"
        )
    asked = as_asked(args.earlier, args.data is None)
    sentence = read_sentence(asked.pop("sentence"))
    args.kept_order, args.kept_labels = asked.pop("order"), asked.pop("labels")
    asked |= {
        "baseline": [f"{k}={v}" for k, v in asked["baseline"].items()],
        "grades": ",".join(asked["grades"]) or None,
    }
    if args.data is not None:
        asked["data"] = args.data
    again = Parser("orchard fit", None, "")
    add_options(again)
    vars(args).update(vars(again.parse_args(args.words, argparse.Namespace(**asked))))
    if args.data is None and asked["data"] is not None:
        args.data = asked["data"]
    args.sentence = Edits(args.add, args.drop, args.each, args.without_each, args.outcome).of(sentence).written


def _orders(args: argparse.Namespace) -> dict[str, list[str]]:
    """Orders of levels: those of the saved fit, and those given."""
    kept: dict[str, list[str]] = getattr(args, "kept_order", {})
    return kept | orders(args.order)


def _wording(args: argparse.Namespace) -> Wording:
    """Texts of columns and levels: of the saved fit, of a file, of the options."""
    from bold_orchard.wording import asked_wording

    return asked_wording(args.data, args.labels, args.label, getattr(args, "kept_labels", None))


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.sentence.parse import read_sentence, used_columns
    from bold_orchard.tables import larger_than
    from bold_orchard.tables import table as read

    sentence = read_sentence(args.sentence)
    if args.data is None:  # the saved fit holds its rows itself
        from bold_orchard.api import fit, open_fit

        given = _options(args) | {"missing": [], "where": None}
        return _kept(args, fit(sentence, open_fit(args.earlier).read, source="-", progress=progress, **given))
    used = [*used_columns(sentence, args.weights, args.where), *args.impute_with]
    if args.data != "-" and (args.cluster or larger_than(args.data, used, args.memory)):
        return _in_pieces(args, sentence, progress)
    from bold_orchard.api import fit

    table = read(args.data, args.missing, args.where, used, _orders(args))
    return _kept(args, fit(sentence, table, source=args.data, progress=progress, **_options(args)))


def _options(args: argparse.Namespace) -> dict[str, Any]:
    """The options of a fit as the Python interface takes them."""
    given = {
        k: getattr(args, k)
        for k in (
            "missing",
            "where",
            "fill_mean",
            "points",
            "tolerance",
            "max_steps",
            "effects",
            "errors",
            "impute",
            "impute_with",
            "seed",
        )
    }
    return (
        given
        | {
            "name": args.save or "fit",
            "confidence": args.confidence or 0.95,
            "order": _orders(args),
            "labels": _wording(args),
        }
        | outcome_given(args)
    )


def _in_pieces(args: argparse.Namespace, sentence: Sentence, progress: Steps) -> Answer:
    from bold_orchard.api import fit

    return _kept(
        args, fit(sentence, args.data, memory=args.memory, cluster=args.cluster, progress=progress, **_options(args))
    )


def _kept(args: argparse.Namespace, model: Model) -> Answer:
    args.saved, args.completed = (
        model.keep(args.save) if args.save else None,
        model.completed_tables if args.keep else None,
    )
    return model.answer if args.saved is None else model.called(args.save).answer


def beside(args: argparse.Namespace, answer: Answer) -> None:
    """The files beside the answer."""
    write_fit_tables(args, answer)
    if args.keep:
        from bold_orchard.storage.files import write_rows

        write_rows(args.keep, args.completed())


def after(args: argparse.Namespace, answer: Answer) -> None:
    if args.saved is not None:
        say(args, f"saved as {args.saved}")


def _points(text: str) -> int | str:
    if text == "auto":
        return text
    if not text.isdigit() or not 1 <= int(text) <= 100:
        raise argparse.ArgumentTypeError(f"points are a whole number from 1 to 100, or auto, not '{text}'")
    return int(text)


COMMAND = Command(
    str(__doc__),
    EXAMPLE,
    add_options,
    answer,
    prepare,
    beside=beside,
    after=after,
    working="fitting",
    other_files=("save", "csv_variation", "csv_figures", "keep"),
)
