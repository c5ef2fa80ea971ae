"""Check the residuals of a fit at every level: rows, and the predicted effects of each unit."""

from __future__ import annotations

import argparse

from bold_orchard.cli.options import check_targets, deliver, output_options

EXAMPLE = """examples:
  orchard check slopes --figure check.png
  orchard check slopes --csv residuals.csv
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("fit", metavar="FIT", help="a name given to --save, or the path of its file")
    output_options(parser)


def run(args: argparse.Namespace) -> int:
    from bold_orchard.diagnostics.check import check
    from bold_orchard.store import open_fit
    from bold_orchard.text.others import check_page

    check_targets(args)
    fit = open_fit(args.fit)
    checked = check(fit, args.seed)

    def picture():  # type: ignore[no-untyped-def]
        from bold_orchard.figures.check import check_figure

        return check_figure(fit, checked)

    def rows() -> list[dict]:  # type: ignore[type-arg]
        r = checked.residuals
        frame = fit.design.table.frame.assign(
            fitted=r.fitted, fitted_average=r.average, residual=r.conditional,
            residual_marginal=r.marginal, residual_standardised=r.standardised,
        )  # fmt: skip
        return frame.to_dict("records")  # type: ignore[return-value]

    deliver(args, checked.document, check_page, rows, picture)
    return 0 if fit.converged else 4
