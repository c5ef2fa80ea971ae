"""The answer of ``orchard draw``: what each kind of picture shows, as numbers."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.errors import UsageError
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.prediction import drawing
from bold_orchard.inference.prediction.average_lines import places
from bold_orchard.inference.prediction.unit_lines import unit_lines
from bold_orchard.inference.summary import numbers
from bold_orchard.results.draw import DrawPicture, DrawResult, UnitLine
from bold_orchard.results.rows import Entries
from bold_orchard.sentence.tree import MEAN

Array = NDArray[Any]
SCHEMA = "bold-orchard/draw/1"
KINDS = ("lines", "panels", "against", "effects", "coefficients", "imputed")
# options that only some kinds have
BELONGS = {
    "along": ("lines", "panels", "effects"),
    "unit": ("lines", "panels"),
    "units": ("lines", "panels"),
    "by": ("lines", "effects"),
    "slope": ("effects",),
}


def draw(
    fits: Sequence[Fit], kind: str = "lines", along: str | None = None, unit: str | None = None,
    units: Sequence[str] = (), by: str | None = None, confidence: float = 0.95, seed: int = 0, figure: str | None = None,
    slope: bool = False,
) -> DrawResult:  # fmt: skip
    """Lines of units, observed against predicted, effects of predictors, or coefficients of several fits.

    Raises UsageError for options that the kind does not have, OrchardError for columns or levels that are not there.
    """
    check_options(
        len(fits), kind, {"along": along, "unit": unit, "units": units or None, "by": by, "slope": slope or None}
    )
    fit = fits[0]
    if kind == "coefficients":
        more: dict[str, Any] = {"coefficients": drawing.coefficients(fits, confidence)}
        picture = DrawPicture(fit.design.outcome)
    elif kind == "against":
        rows = drawing.against_rows(fit)
        more = {"rows": rows, "tenths": drawing.tenths_of(fit), "correlation": drawing.correlations(rows)}
        picture = DrawPicture(_label(fit))
    elif kind == "effects":
        chosen = drawing.chosen_predictor(fit, along)
        shown = [chosen.column] if along else drawing.predictors(fit)
        made = drawing.effects(fit, shown, by, confidence, slope, None if chosen.number is None else chosen.name)
        if along:
            made = chosen.placed(made)
        more = {"effects": made} | ({"slope": True} if slope else {})
        none: tuple[Array | None, tuple[str, ...]] = (None, ())
        rows_of = fit.of_table
        groups, levels = none if by is None else places(rows_of, by)
        points = {name: places(rows_of, name)[0] for name in shown}
        if along:
            points = {chosen.name: chosen.places(points[chosen.column])}
        if fit.model.family.reads == "levels" and fit.one is None:  # lines of probabilities, a colour for each level
            groups, levels = rows_of.design.y, fit.design.levels
        of = f"slope of {fit.design.outcome}" + ("" if fit.design.link == "identity" else f" ({fit.design.link} scale)")
        picture = DrawPicture(of if slope else _label(fit), y=_shown(fit), points=points, groups=groups, levels=levels)
    else:
        more, picture = _lines(fit, kind, along, unit, units, seed, by, confidence)
    document = {
        "schema": SCHEMA, "kind": kind, "names": [f.name for f in fits], "model": fit.result.model,
        "outcome": fit.result.outcome, "confidence": confidence, "figure": figure, **more,
        "notes": [f"The fit '{f.name}' did NOT converge; its picture means nothing. Mend the fit first." for f in fits if not f.converged],
    }  # fmt: skip
    return DrawResult.from_dict(document).with_keys(picture=picture)


def _shown(fit: Fit) -> Array:
    """The outcome of every row beside an effect; nothing where what is drawn is on another scale."""
    y = drawing.observed(fit)
    other = fit.design.predictors and (fit.model.family.reads == "levels" or fit.one not in (None, MEAN))
    return np.full(len(y), np.nan) if other else y


def check_options(fits: int, kind: str, given: dict[str, Any]) -> None:
    """Refuse options that the kind does not have, before any work is done."""
    if kind not in KINDS:
        raise UsageError(f"the kind is {', '.join(KINDS)}, not '{kind}'")
    if fits > 1 and kind != "coefficients":
        raise UsageError(f"--kind {kind} draws one fit; several stand side by side in --kind coefficients")
    for option, kinds in BELONGS.items():
        if given.get(option) is not None and kind not in kinds:
            raise UsageError(f"--{option} belongs to --kind {' and '.join(kinds)}")


def _lines(
    fit: Fit,
    kind: str,
    along: str | None,
    asked: str | None,
    names: Sequence[str],
    seed: int,
    by: str | None,
    confidence: float,
) -> tuple[dict[str, Any], DrawPicture]:
    axis = drawing.chosen_predictor(fit, along)
    chosen = axis.column
    if fit.model.family.reads == "levels":
        raise UsageError("lines of units are of one mean each; of unordered levels draw --kind effects")
    unit = drawing.drawn_unit(fit, asked, chosen)
    levels = drawing.chosen_levels(unit, list(names), seed, drawing.PANELS if kind == "panels" else unit.size)
    made = unit_lines(fit, unit, chosen, levels, by)
    own: dict[str, Any] = {}
    groups: Array | None = None
    texts: tuple[str, ...] = ()
    if by is not None:
        groups, texts = drawing.groups_of(fit, unit, by)
        told = by in fit.design.coded_columns() and by != chosen
        averages = drawing.effects(fit, [chosen], by, confidence) if told else []
        own = {
            "by": by,
            "averages": axis.placed(averages),
        }
    level_of = {} if groups is None else dict(zip(unit.codes.tolist(), groups.tolist()))

    def lines() -> list[dict[str, Any]]:
        ends = np.cumsum([len(x) for x in made.x]).tolist()
        x, y = numbers(axis.places(np.concatenate(made.x))), numbers(np.concatenate(made.y))
        return [
            {"level": unit.texts[j], "x": x[start:end], "y": y[start:end]}
            | ({"by": texts[int(level_of[j])]} if level_of else {})
            for j, start, end in zip(levels.tolist(), [0, *ends], ends)
        ]

    average = {"x": axis.places(made.at).tolist(), "y": made.average.tolist()}
    x, _ = places(fit.of_table, chosen)
    picture = DrawPicture(
        _label(fit),
        axis.places(x),
        _shown(fit),
        unit.codes[:: max(len(fit.design.predictors), 1)],
        tuple(unit.texts),
        made.shown,
        bool(names),
        groups=groups,
        levels=texts,
    )
    return {"unit": unit.name, "levels": unit.size, "along": axis.name, "ticks": list(made.ticks), **axis.dates(fit), "lines": Entries(UnitLine, len(levels), lines),
            "average": average, "held": made.held, **own}, picture  # fmt: skip


def _label(fit: Fit) -> str:
    """What stands on the axis of the outcome."""
    outcome, levels = fit.design.outcome, fit.design.levels
    if fit.design.predictors and fit.one not in (None, MEAN):
        return f"{'probability of zeros' if fit.one == 'zeros' else fit.one} of {outcome}"
    if fit.model.family.reads == "levels":
        return f"probability of {outcome}"
    if fit.design.graded:
        return f"mean grade of {outcome} (1 = {levels[0]}, {len(levels)} = {levels[-1]})"
    if levels:
        return f"chance of {outcome} = {levels[1]}"
    return outcome.replace(" of ", " / ") if fit.design.trials is not None else outcome
