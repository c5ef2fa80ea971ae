"""Check a fit at every level: residuals of rows, effects of units, patterns left over, influence of each unit."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from bold_orchard.cli.options import check_targets, deliver, fit_argument, output_options, write_csv

if TYPE_CHECKING:
    import pandas as pd

    from bold_orchard.diagnostics.checks import Checked
    from bold_orchard.inference.fit import Fit

EXAMPLE = """examples:
  orchard check slopes --figure check.png
  orchard check slopes --kind influence --figure influence.png
  orchard check slopes --time season --unit orchard
  orchard check slopes --unit "tree in orchard"
  orchard check slopes --csv residuals.csv --csv-units effects.csv
"""
KINDS = ("overview", "rows", "predictors", "effects", "influence", "time")


def add_options(parser: argparse.ArgumentParser) -> None:
    fit_argument(parser)
    parser.add_argument("--kind", choices=KINDS, default="overview",
                        help="the picture: everything at a glance (default) or one question at full size")  # fmt: skip
    parser.add_argument("--unit", metavar="UNIT",
                        help="the unit for within-group residuals, spread, time and influence (default: of each what fits); "
                        "one that the model lacks, tree in orchard, is also asked whether it should be there")  # fmt: skip
    parser.add_argument("--time", metavar="COLUMN", help="a column that orders a unit's rows, for autocorrelation")
    parser.add_argument("--influence", choices=("one-step", "exact", "none"),
                        help="of each unit: one step of the search (default where quick), or the fit made anew without it")  # fmt: skip
    parser.add_argument("--csv-units", metavar="FILE", help="one row per unit as CSV: effects and influence")
    output_options(parser)


def run(args: argparse.Namespace) -> int:
    from bold_orchard.cli.progress import Steps
    from bold_orchard.diagnostics.checks import Asked, check
    from bold_orchard.reporting.pages.check import check_page
    from bold_orchard.storage.saved_fits import open_fit

    check_targets(args)
    fit = open_fit(args.fit)
    with Steps("leaving units out", args.quiet) as progress:
        checked = check(fit, Asked(args.unit, args.time, args.influence, args.seed), progress)

    if args.figure:
        from bold_orchard.reporting.figures.check import refuse_empty

        refuse_empty(fit, checked, args.kind)

    def picture() -> Any:
        from bold_orchard.reporting.figures.check import check_figure

        return check_figure(fit, checked, args.kind)

    if args.csv_units:
        write_csv(args.csv_units, _units(checked))
    deliver(args, checked.document, check_page, lambda: _rows(fit, checked), picture)
    return 0 if fit.converged else 4


def _rows(fit: Fit, checked: Checked) -> pd.DataFrame:
    """The rows used, with fitted values and residuals of every kind beside them."""
    from bold_orchard.inference.prediction.predict import beside

    r = checked.residuals
    made = {
        "row": fit.design.table.row_numbers, "fitted": r.fitted, "fitted_average": r.average, "residual": r.conditional,
        "residual_marginal": r.marginal, "residual_standardised": r.standardised,
    }  # fmt: skip
    if r.white is not r.standardised:
        made["residual_independent"] = r.white
    if checked.within is not None:
        made |= {
            "residual_within": checked.within.residual,
            "residual_within_standardised": checked.within.standardised,
        }
    return beside(fit.design.table.frame, made, fit.name)


def _units(checked: Checked) -> list[dict[str, Any]]:
    """One row per level of each unit, one column for each term's effect; what leaving the level out would do."""
    rows: dict[tuple[str, str], dict[str, Any]] = {}
    for made in checked.units:
        for j, level in enumerate(made.levels):
            row = rows.setdefault((made.group, level), {"group": made.group, "level": level})
            row |= {f"effect {t}": made.effects[j, k] for k, t in enumerate(made.terms)}
            row |= {f"se {t}": made.se[j, k] for k, t in enumerate(made.terms)}
    for entry in checked.document["influence"]:
        row = rows.setdefault((entry["group"], entry["level"]), {"group": entry["group"], "level": entry["level"]})
        row |= {"rows": entry["rows"], "cooks_distance": entry["cooks_distance"],
                "cooks_distance_components": entry["cooks_distance_components"]}  # fmt: skip
        row |= {f"change {t}": v for t, v in entry["change"].items()}
        row |= {f"change {t}": v for t, v in entry["components_change"].items()}
    return list(rows.values())
