"""Draw a fit: each unit's line over the data, predicted against observed, effects of predictors, coefficients."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from bold_orchard.cli.options import check_targets, deliver, output_options
from bold_orchard.errors import UsageError

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from bold_orchard.inference.fit import Fit

EXAMPLE = """examples:
  orchard draw slopes --figure lines.png
  orchard draw slopes --kind panels --units "Ivy Lane,Barrow,Kestrel" --figure panels.png
  orchard draw slopes --kind effects --along rain --by pruning --figure effects.png
  orchard draw rain slopes --kind coefficients --figure coefficients.svg
"""
KINDS = ("lines", "panels", "against", "effects", "coefficients")
Drawn = tuple[dict[str, Any], list[dict[str, Any]], "Callable[[], Figure]"]


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("fits", metavar="FIT", nargs="+", help="a name given to --save, or the path of its file; several for coefficients")  # fmt: skip
    parser.add_argument("--kind", choices=KINDS, default="lines",
                        help="the picture; lines: all units in one panel (default); panels: small multiples; against: observed against "
                        "predicted; effects: a predictor's effect with its band; coefficients: estimates, of several fits too")  # fmt: skip
    parser.add_argument(
        "--along", metavar="COLUMN", help="the predictor along the axis (default: the first number; effects: all)"
    )
    parser.add_argument(
        "--unit", metavar="UNIT", help="whose lines (default: the unit whose effects vary along the predictor)"
    )
    parser.add_argument(
        "--units", metavar="A,B,C", help="only these levels of it (default: all; in panels 12 by --seed)"
    )
    parser.add_argument("--by", metavar="COLUMN", help="effects: one line for each level of this category")
    output_options(parser)


def run(args: argparse.Namespace) -> int:
    from bold_orchard.reporting.pages.draw import draw_page
    from bold_orchard.storage.saved_fits import open_fit

    _fitting_options(args)
    check_targets(args)
    fits = [open_fit(name) for name in args.fits]
    if args.figure is None and not (args.json or args.csv):
        args.figure = f"{fits[0].name}-{args.kind}.png"
        check_targets(args)
    fit, confidence = fits[0], args.confidence or fits[0].settings.confidence
    more, rows, picture = _coefficients(fits, args) if args.kind == "coefficients" else _drawn(fit, args, confidence)
    document = {
        "schema": "bold-orchard/draw/1", "kind": args.kind, "names": [f.name for f in fits], "model": fit.result["model"],
        "outcome": fit.result["outcome"], "confidence": confidence, "figure": args.figure, **more,
        "notes": [f"The fit '{f.name}' did NOT converge; its picture means nothing. Mend the fit first." for f in fits if not f.converged],
    }  # fmt: skip
    deliver(args, document, draw_page, lambda: rows, picture)
    return 0 if all(f.converged for f in fits) else 4


def _fitting_options(args: argparse.Namespace) -> None:
    """Refuse options that the kind does not have, before any work is done."""
    if len(args.fits) > 1 and args.kind != "coefficients":
        raise UsageError(f"--kind {args.kind} draws one fit; several stand side by side in --kind coefficients")
    known = {
        "along": ("lines", "panels", "effects"),
        "unit": ("lines", "panels"),
        "units": ("lines", "panels"),
        "by": ("effects",),
    }
    for option, kinds in known.items():
        if getattr(args, option) is not None and args.kind not in kinds:
            raise UsageError(f"--{option} belongs to --kind {' and '.join(kinds)}")


def _drawn(fit: Fit, args: argparse.Namespace, confidence: float) -> Drawn:
    return {"lines": _lines, "panels": _lines, "against": _against, "effects": _effects}[args.kind](
        fit, args, confidence
    )


def _lines(fit: Fit, args: argparse.Namespace, confidence: float) -> Drawn:
    from bold_orchard.inference.prediction.drawing import (
        PANELS,
        chosen_levels,
        chosen_predictor,
        drawn_unit,
        unit_lines,
    )

    along = chosen_predictor(fit, args.along)
    unit = drawn_unit(fit, args.unit, along)
    names = [n.strip() for n in args.units.split(",")] if args.units else []
    levels = chosen_levels(unit, names, args.seed, PANELS if args.kind == "panels" else unit.size)
    made = unit_lines(fit, unit, along, levels)
    lines = [{"level": unit.texts[j], "x": x.tolist(), "y": y.tolist()} for j, x, y in zip(levels, made.x, made.y)]
    rows = [{"unit": unit.name, "level": line["level"], along: made.ticks[int(x)] if made.ticks else x, "fitted": y}
            for line in [*lines, {"level": "average", "x": made.at.tolist(), "y": made.average.tolist()}]
            for x, y in zip(line["x"], line["y"])]  # fmt: skip

    def picture() -> Figure:
        from bold_orchard.reporting.figures.draw import lines_figure, panels_figure

        return panels_figure(fit, made, unit.size) if args.kind == "panels" else lines_figure(fit, made, bool(names))

    more = {"unit": unit.name, "levels": unit.size, "along": along, "ticks": list(made.ticks), "lines": lines,
            "average": {"x": made.at.tolist(), "y": made.average.tolist()}}  # fmt: skip
    return more, rows, picture


def _against(fit: Fit, args: argparse.Namespace, confidence: float) -> Drawn:
    from bold_orchard.inference.prediction.drawing import against_rows, correlations, tenths_of

    rows, tenths = against_rows(fit), tenths_of(fit)

    def picture() -> Figure:
        from bold_orchard.reporting.figures.draw import against_figure

        return against_figure(fit, rows, tenths)

    return {"rows": rows, "tenths": tenths, "correlation": correlations(rows)}, rows, picture


def _effects(fit: Fit, args: argparse.Namespace, confidence: float) -> Drawn:
    from bold_orchard.inference.prediction.drawing import chosen_predictor, effects, predictors

    chosen = chosen_predictor(fit, args.along)
    made = effects(fit, [chosen] if args.along else predictors(fit), args.by, confidence)
    rows = [{"predictor": m["predictor"], "value": m["ticks"][int(x)] if m["ticks"] else x, "by": m["level"], "estimate": e, "low": low, "high": high}
            for m in made for x, e, low, high in zip(m["x"], m["estimate"], m["low"], m["high"])]  # fmt: skip

    def picture() -> Figure:
        from bold_orchard.reporting.figures.draw import effects_figure

        return effects_figure(fit, made, confidence)

    return {"effects": made}, rows, picture


def _coefficients(fits: list[Fit], args: argparse.Namespace) -> Drawn:
    from bold_orchard.inference.prediction.drawing import coefficients

    confidence = args.confidence or fits[0].settings.confidence
    rows = coefficients(fits, confidence)

    def picture() -> Figure:
        from bold_orchard.reporting.figures.draw import coefficients_figure

        return coefficients_figure(rows, fits[0].design.outcome, confidence)

    return {"coefficients": rows}, rows, picture
