"""What was predicted for each unit, and how surely: effects, intervals, ranks, the unit's own coefficients."""

from __future__ import annotations

import argparse
from typing import Any

from bold_orchard.cli.options import check_targets, deliver, fit_argument, output_options

EXAMPLE = """examples:
  orchard groups slopes
  orchard groups slopes --csv groups.csv --figure groups.png
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    fit_argument(parser)
    output_options(parser)


def run(args: argparse.Namespace) -> int:
    from bold_orchard.inference.prediction.groups import groups
    from bold_orchard.reporting.pages.groups import groups_page
    from bold_orchard.storage.saved_fits import open_fit

    check_targets(args)
    fit = open_fit(args.fit)
    document = groups(fit, args.confidence or fit.settings.confidence)

    def picture() -> Any:
        from bold_orchard.reporting.figures.groups import groups_figure

        return groups_figure(document)

    deliver(args, document, groups_page, lambda: _wide(document), picture)
    return 0 if fit.converged else 4


def _wide(document: dict[str, Any]) -> list[dict[str, Any]]:
    """One row per level, a column for every figure of every term."""
    rows = []
    for part in document["groups"]:
        for r in part["rows"]:
            row = {"group": part["group"], "level": r["level"], "rows": r["rows"], "rank": r["rank"]}
            for t in part["terms"]:
                low, high = r["ci"][t]
                row |= {f"effect {t}": r["effects"][t], f"se {t}": r["se"][t], f"low {t}": low, f"high {t}": high,
                        f"coefficient {t}": r["coefficients"][t]}  # fmt: skip
            rows.append(row)
    return rows
