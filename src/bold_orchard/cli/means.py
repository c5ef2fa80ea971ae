"""Adjusted means of a term's levels, and the differences between them."""

from __future__ import annotations

import argparse
from typing import Any

from bold_orchard.cli.options import check_targets, deliver, fit_argument, output_options
from bold_orchard.errors import UsageError

EXAMPLE = """examples:
  orchard means slopes pruning --pairs
  orchard means slopes "pruning*soil" --figure means.png
  orchard means slopes pruning --at rain=40,80
"""
ADJUST = ("tukey", "sidak", "bonferroni", "holm", "none")


def add_options(parser: argparse.ArgumentParser) -> None:
    fit_argument(parser)
    parser.add_argument("term", metavar="TERM", help="a category of the fixed part, or a product: pruning*soil")
    parser.add_argument("--at", metavar="COLUMN=VALUES", action="append", default=[],
                        help="a covariate at other values than its mean: rain=10,20 (repeatable)")  # fmt: skip
    parser.add_argument("--pairs", action="store_true", help="print all pairwise differences")
    parser.add_argument("--adjust", choices=ADJUST, default="tukey", help="for the number of pairs (default: tukey)")
    parser.add_argument("--slope", metavar="COLUMN", help="slopes of a covariate per level instead of means")
    parser.add_argument("--df", choices=("residual", "normal", "satterthwaite", "kenward-roger"),
                        help="degrees of freedom (default: those of the fit)")  # fmt: skip
    parser.add_argument("--force", action="store_true", help="go on with a fit that did not converge")
    output_options(parser)


def run(args: argparse.Namespace) -> int:
    from bold_orchard.inference.means import means
    from bold_orchard.store import open_fit
    from bold_orchard.text.terms import means_page

    check_targets(args)
    fit = open_fit(args.fit)
    confidence = args.confidence or fit.settings.confidence
    document = means(fit, args.term, _at(args.at), args.adjust, args.df, confidence, args.slope, args.force)
    document["print_pairs"] = args.pairs

    def picture() -> Any:
        from bold_orchard.figures.means import means_figure

        return means_figure(document)

    deliver(args, document, means_page, lambda: _table(document["means"]), picture)
    return 0 if fit.converged else 4


def _at(entries: list[str]) -> dict[str, list[float]]:
    out = {}
    for entry in entries:
        column, sign, values = entry.partition("=")
        try:
            out[column.strip()] = [float(v) for v in values.split(",")]
        except ValueError:
            sign = ""
        if not sign or not column.strip():
            raise UsageError(f"--at is written COLUMN=VALUE,VALUE, not '{entry}'")
    return out


def _table(rows: list[dict[str, Any]]) -> list[dict[str, Any]]:
    return [
        r["levels"] | {k: r[k] for k in ("mean", "se", "df")} | {"low": r["ci"][0], "high": r["ci"][1]} for r in rows
    ]
