"""Adjusted means of a term's levels, and the differences between them."""

from __future__ import annotations

import argparse
from typing import Any

from bold_orchard.cli.options import check_targets, deliver, fit_argument, output_options
from bold_orchard.errors import UsageError

EXAMPLE = """examples:
  orchard means slopes pruning --differences
  orchard means slopes "pruning*soil" --differences --within soil --figure means.png
  orchard means slopes pruning --hold rain=40,80
"""
CORRECTIONS = ("tukey", "sidak", "bonferroni", "holm", "none")


def add_options(parser: argparse.ArgumentParser) -> None:
    fit_argument(parser)
    parser.add_argument("term", metavar="TERM", help="a category of the fixed part, or a product: pruning*soil")
    parser.add_argument("--hold", metavar="COLUMN=VALUES", action="append", default=[],
                        help="a column held at values of its own: rain=10,20 or soil=clay (repeatable)")  # fmt: skip
    parser.add_argument("--differences", action="store_true", help="print all pairwise differences")
    parser.add_argument("--correction", choices=CORRECTIONS, default="tukey",
                        help="for the number of differences (default: tukey)")  # fmt: skip
    parser.add_argument(
        "--within", metavar="COLUMN", help="differences inside one level of this factor of the term only"
    )
    parser.add_argument("--ratios", action="store_true", help="differences as odds, rate or hazard ratios too")
    parser.add_argument("--sed", action="store_true", help="print the whole matrix of standard errors of differences")
    parser.add_argument("--slope", metavar="COLUMN", help="slopes of a covariate per level instead of means")
    parser.add_argument("--df", choices=("residual", "normal", "satterthwaite", "kenward-roger"),
                        help="degrees of freedom (default: those of the fit)")  # fmt: skip
    parser.add_argument("--force", action="store_true", help="go on with a fit that did not converge")
    output_options(parser)


def run(args: argparse.Namespace) -> int:
    from bold_orchard.inference.coefficients.means import means
    from bold_orchard.reporting.pages.means import means_page
    from bold_orchard.storage.saved_fits import open_fit

    check_targets(args)
    fit = open_fit(args.fit)
    confidence = args.confidence or fit.settings.confidence
    document = means(fit, args.term, _held(args.hold), args.correction, args.df, confidence, args.slope, args.force,
                     args.within, args.ratios)  # fmt: skip
    shown = {"differences": args.differences or args.ratios or args.within is not None, "sed": args.sed}

    def picture() -> Any:
        from bold_orchard.reporting.figures.means import means_figure

        return means_figure(document)

    deliver(
        args, document, lambda d, digits: means_page(d, digits, **shown), lambda: _table(document, **shown), picture
    )
    return 0 if fit.converged else 4


def _held(entries: list[str]) -> dict[str, list[float | str]]:
    out: dict[str, list[float | str]] = {}
    for entry in entries:
        column, sign, values = entry.partition("=")
        wanted = [v.strip() for v in values.split(",")]
        if not sign or not column.strip() or not all(wanted):
            raise UsageError(f"--hold is written COLUMN=VALUE,VALUE, not '{entry}'")
        out.setdefault(column.strip(), []).extend(wanted)
    return out


def _table(document: dict[str, Any], differences: bool, sed: bool) -> list[dict[str, Any]]:
    """The means; the differences and the matrix of their errors below them when they were asked for."""
    rows = []
    for r in document["means"]:
        low, high = r["ci"] or (None, None)
        row = r["levels"] | {k: r[k] for k in ("mean", "se", "df")} | {"low": low, "high": high}
        if "outcome" in r:
            ends = r["outcome_ci"] or (None, None)
            row |= {
                "outcome": r["outcome"],
                "outcome_low": ends[0],
                "outcome_high": ends[1],
                "population": r["population"],
            }
        row |= {f"chance[{c['grade']}]": c["chance"] for c in r.get("chances") or []}
        rows.append(({"part": "mean"} if differences or sed else {}) | row)
    if differences:
        for p in document["pairs"]:
            flat = {k: v for k, v in p.items() if not k.endswith("ci")}
            for key in ("ci", "ratio_ci", "outcome_ci"):
                if key in p:
                    flat |= dict(zip((key.replace("ci", "low"), key.replace("ci", "high")), p[key]))
            rows.append({"part": "difference"} | flat)
    if sed:
        from bold_orchard.inference.coefficients.means import label

        names = [label(m["levels"]) for m in document["means"]]
        rows += [
            {"part": "sed", "a": a, "b": b, "se": document["sed"]["matrix"][i][j]}
            for i, a in enumerate(names)
            for j, b in enumerate(names)
            if i < j
        ]
    return rows
