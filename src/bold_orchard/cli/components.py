"""Variance components of a fit: how much variation sits at each level, and how sure we are."""

from __future__ import annotations

import argparse

from bold_orchard.cli.options import check_targets, deliver, fit_argument, output_options

EXAMPLE = """examples:
  orchard components slopes
  orchard components slopes --against empty
  orchard components slopes --method profile --figure components.png
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    fit_argument(parser)
    parser.add_argument("--method", choices=("wald", "profile"), default="wald",
                        help="intervals on the log scale (default), or by profile likelihood")  # fmt: skip
    parser.add_argument(
        "--against", metavar="FIT", help="also how much of each variance this fit takes away from another's"
    )
    output_options(parser)


def run(args: argparse.Namespace) -> int:
    from bold_orchard.cli.progress import Steps
    from bold_orchard.inference.variances.components import components
    from bold_orchard.reporting.pages.others import components_page
    from bold_orchard.storage.saved_fits import open_fit

    check_targets(args)
    fit = open_fit(args.fit)
    against = open_fit(args.against) if args.against else None
    with Steps("profiling", args.quiet) as progress:
        document = components(fit, args.confidence or fit.settings.confidence, args.method, against, progress)

    def picture():  # type: ignore[no-untyped-def]
        from bold_orchard.reporting.figures.components import components_figure

        return components_figure(document)

    deliver(args, document, components_page, lambda: _table(document["components"]), picture)
    return 0 if fit.converged else 4


def _table(rows: list[dict]) -> list[dict]:  # type: ignore[type-arg]
    out = []
    for r in rows:
        low, high = r["ci"] or (None, None)
        out.append({k: v for k, v in r.items() if k != "ci"} | {"low": low, "high": high})
    return out
