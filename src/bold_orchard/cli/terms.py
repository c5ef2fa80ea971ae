"""Which fixed terms matter: F or Wald tests of every term, and tests of your own contrasts."""

from __future__ import annotations

import argparse
from typing import Any

from bold_orchard.cli.options import check_targets, deliver, fit_argument, output_options

EXAMPLE = """examples:
  orchard terms slopes
  orchard terms slopes --figure terms.png
  orchard terms slopes --type 1 --chisq
  orchard terms slopes --contrast "hard - light" --contrast "centre(rain) = 0.25"
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    fit_argument(parser)
    parser.add_argument("--type", type=int, choices=(1, 2, 3), default=3,
                        help="1 sequential, 2 after every term that does not contain it, 3 marginal (default)")  # fmt: skip
    parser.add_argument("--chisq", action="store_true", help="Wald chi-squared instead of F")
    parser.add_argument("--likelihood", action="store_true",
                        help="likelihood-ratio chi-squared, each model without the term fitted anew by ML")  # fmt: skip
    parser.add_argument("--df", choices=("residual", "normal", "satterthwaite", "kenward-roger"),
                        help="degrees of freedom (default: those of the fit)")  # fmt: skip
    parser.add_argument(
        "--contrast", metavar="TEXT", action="append", default=[], help="a hypothesis of your own (repeatable)"
    )
    parser.add_argument("--force", action="store_true", help="go on with a fit that did not converge")
    output_options(parser)


def run(args: argparse.Namespace) -> int:
    from bold_orchard.inference.coefficients.contrasts import contrast
    from bold_orchard.inference.coefficients.terms import terms
    from bold_orchard.reporting.pages.terms import terms_page
    from bold_orchard.storage.saved_fits import open_fit

    check_targets(args)
    fit = open_fit(args.fit)
    document = terms(fit, args.type, args.df, args.chisq, args.force, args.likelihood)
    confidence = args.confidence or fit.settings.confidence
    document["confidence"] = confidence
    document["contrasts"] = [contrast(fit, text, args.df, confidence) for text in args.contrast]
    tests = [row for test in document["tests"] for row in (test, *test.get("parts", []))]
    rows: list[dict[str, Any]] = [{k: v for k, v in t.items() if k != "parts"} for t in tests]

    def picture() -> Any:
        from bold_orchard.reporting.figures.terms import terms_figure

        return terms_figure(document)

    deliver(args, document, terms_page, lambda: rows, picture)
    return 0 if fit.converged else 4
