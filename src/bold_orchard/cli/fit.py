"""Fit a linear or generalized mixed-effects model: average effects, and how much groups vary."""

from __future__ import annotations

import argparse
import dataclasses

from bold_orchard.cli.options import check_targets, data_options, deliver, output_options, say
from bold_orchard.errors import UsageError
from bold_orchard.families import names

EXAMPLE = """examples:
  orchard fit harvest.csv "yield = intercept; each orchard: intercept" --missing -999 --save empty
  orchard fit blossom.csv "fruit of counted = bees + late_frost; each orchard: intercept" --ratios
  orchard fit pests.csv "moths = week + netting; each orchard: intercept" --family poisson
  orchard fit harvest.csv "yield = centre(rain) + pruning; each orchard: intercept + centre(rain)" \\
      --missing -999 --baseline pruning=none --save slopes
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "data", metavar="DATA", help="CSV, TSV, Parquet, xlsx, ods or JSON lines; - for CSV on standard input"
    )
    parser.add_argument("sentence", metavar="SENTENCE", help='the model: "yield = rain; each orchard: intercept"')
    group = parser.add_argument_group("the model")
    group.add_argument("--save", metavar="NAME", help="keep the fit as NAME.fit.json")
    group.add_argument("--method", choices=("reml", "ml"), default="reml", help="default: reml")
    group.add_argument("--baseline", metavar="COLUMN=LEVEL", action="append", default=[],
                       help="the level others are compared with (repeatable)")  # fmt: skip
    group.add_argument("--df", choices=("residual", "normal", "satterthwaite", "kenward-roger"), default="satterthwaite",
                       help="degrees of freedom of the tests (default: satterthwaite; normal gives z)")  # fmt: skip
    group.add_argument("--fill-mean", metavar="COLUMN", action="append", default=[],
                       help="fill a covariate's gaps with its mean (repeatable)")  # fmt: skip
    group.add_argument("--weights", metavar="COLUMN", help="the residual variance is sigma^2 / weight")
    group.add_argument("--family", choices=names(), help="default: gaussian")
    group.add_argument("--link", metavar="LINK", help="default: the family's own")
    group.add_argument("--points", metavar="K", type=_points, default=1,
                       help="quadrature points per random effect, or auto; 1 is Laplace (default)")  # fmt: skip
    group.add_argument("--success", metavar="LEVEL", help="which of two levels counts as success (default: the later)")
    group.add_argument(
        "--grades", metavar="LEVELS", help="grades of an ordinal outcome, lowest first: none,mild,severe"
    )
    group.add_argument("--effects", action="store_true", help="also average effects on the outcome's own scale")
    group.add_argument("--ratios", action="store_true", help="also odds, rate or hazard ratios")
    group.add_argument(
        "--tolerance", metavar="X", type=float, default=1e-10, help="expected further change of the deviance"
    )
    group.add_argument("--max-steps", metavar="N", type=int, default=100, help="steps of the search (default 100)")
    group.add_argument("--force", action="store_true", help="go on where the tool would stop")
    data_options(parser)
    output_options(parser)


def run(args: argparse.Namespace) -> int:
    from concurrent.futures import ThreadPoolExecutor

    from bold_orchard.data.read import check_missing_syntax, read_table

    _check(args)
    check_targets(args)
    check_missing_syntax(args.missing)
    with ThreadPoolExecutor(1) as pool:  # the file is read while the engine loads
        reading = pool.submit(read_table, args.data, args.missing, args.where)
        from bold_orchard.cli.progress import Steps
        from bold_orchard.design.design import Options
        from bold_orchard.inference.fit import Settings, fit
        from bold_orchard.reporting.pages.fit import fit_page
        from bold_orchard.sentence.parse import read_sentence

        sentence = read_sentence(args.sentence)
        table = reading.result()
    options = Options(baselines(args.baseline), tuple(args.fill_mean), args.weights, args.family, args.force, args.link,
                      args.success, tuple(g.strip() for g in (args.grades or "").split(",") if g.strip()))  # fmt: skip
    settings = Settings(
        args.method, options, args.df, args.confidence or 0.95, args.tolerance, args.max_steps, args.points
    )
    with Steps("fitting", args.quiet) as progress:
        made = fit(sentence, table, settings, args.save or "fit", progress)
    if args.effects:
        made = dataclasses.replace(made, result=made.result | {"average_effects": effects(made)})
    if args.ratios:
        made = dataclasses.replace(made, result=ratios(made.result))
    if args.save:
        from bold_orchard.storage.saved_fits import save_fit

        made = dataclasses.replace(made, result=made.result | {"name": _plain(args.save)})
        path = save_fit(made, args.save, args.data, args.missing, args.where)
    document = made.result

    def picture():  # type: ignore[no-untyped-def]
        from bold_orchard.reporting.figures.fit import fit_figure

        return fit_figure(document)

    deliver(args, document, fit_page, lambda: fixed_table(document), picture)
    if args.save:
        say(args, f"saved as {path}")
    return 0 if made.converged else 4


def _check(args: argparse.Namespace) -> None:
    if not args.tolerance > 0:
        raise UsageError("--tolerance must be above zero")
    if args.max_steps < 1:
        raise UsageError("--max-steps must be 1 or more")


def effects(made):  # type: ignore[no-untyped-def]
    """Average effects on the outcome's scale; raises UsageError for a fit whose scale is that already."""
    from bold_orchard.inference.prediction.response_scale import average_effects

    if made.design.additive or made.design.graded:
        raise UsageError(
            f"--effects is for outcomes whose mean is not on the linear scale; this fit is {made.design.family}"
        )
    return average_effects(made)


def _points(text: str) -> int | str:
    if text == "auto":
        return text
    if not text.isdigit() or not 1 <= int(text) <= 100:
        raise argparse.ArgumentTypeError(f"points are a whole number from 1 to 100, or auto, not '{text}'")
    return int(text)


def ratios(document: dict) -> dict:  # type: ignore[type-arg]
    """The document with ratios; raises UsageError for a link that has none."""
    from bold_orchard.families.links import LINKS
    from bold_orchard.inference.summary import with_ratios

    if LINKS[document["link"]].ratio is None:
        raise UsageError(f"--ratios: exp(estimate) means nothing under the {document['link']} link; leave it out")
    return with_ratios(document)


def _plain(name: str) -> str:
    from pathlib import Path

    return Path(name).name.removesuffix(".fit.json")


def baselines(entries: list[str]) -> dict[str, str]:
    out = {}
    for entry in entries:
        column, sign, level = entry.partition("=")
        if not sign or not column or not level:
            raise UsageError(f"--baseline is written COLUMN=LEVEL, not '{entry}'")
        out[column.strip()] = level.strip()
    return out


def fixed_table(document: dict) -> list[dict]:  # type: ignore[type-arg]
    """The fixed effects as flat rows."""
    rows = []
    for r in document["fixed"]:
        low, high = r["ci"] or (None, None)
        row = {k: r[k] for k in ("term", "estimate", "se", "df", "statistic", "p")} | {"low": low, "high": high}
        if "ratio" in r:
            ends = r["ratio_ci"] or (None, None)
            row |= {"ratio": r["ratio"], "ratio_low": ends[0], "ratio_high": ends[1]}
        rows.append(row)
    return rows
