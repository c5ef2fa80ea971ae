"""What was predicted for each unit: effects with their errors, and the unit's own coefficients."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.validation import is_nested
from bold_orchard.errors import OrchardError
from bold_orchard.estimation.model import UnitEffects
from bold_orchard.inference.distributions import quantile_t
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.prediction.studies import new_unit, own_estimates
from bold_orchard.inference.summary import number, numbers
from bold_orchard.results.groups import GroupsResult, LevelEffects, OwnEstimate
from bold_orchard.results.rows import Entries

Array = NDArray[Any]
SCHEMA = "bold-orchard/groups/1"


def groups(fit: Fit, confidence: float = 0.95) -> GroupsResult:
    """The document of ``orchard groups``: one entry per each clause, levels in the order of the data.

    ``se`` is the root of var(u_hat - u), the uncertainty of the fixed part included (of a generalized fit at the mode, given
    the variances); ``coefficients`` add the fixed part and the effects of the units that a level lies in where the same term stands there. Raises OrchardError without units.
    """
    design = fit.design
    if not design.clauses:
        raise OrchardError(f"'{fit.name}' has no each clause, so there are no units to look at")
    fixed = {r.term: r.estimate for r in fit.result.coefficients if r.estimate is not None}
    width = quantile_t(confidence, None)
    has_spread = design.random_spread
    out = []
    effects = fit.model.unit_effects()
    for made in effects:
        typical = _typical_sd(fit, made.unit) if "spread" in made.terms and has_spread else np.zeros(0)
        average = np.array([float(fixed.get(t, 0.0)) for t in made.terms])
        beside = sum(
            shared_effects(
                fit, made.unit, made.terms, [(e.unit, e.terms, e.effects) for e in effects if e is not made]
            ),
            average,
        )
        rows = partial(
            _rows, made, beside, width, design.blocks[made.unit].unit.counts, typical, own_estimates(fit, made.unit)
        )
        out.append(
            {"group": made.group, "terms": list(made.terms), "in_fixed": [t in fixed for t in made.terms],
             "rows": Entries(LevelEffects, len(made.levels), rows)}
        )  # fmt: skip
    document: dict[str, Any] = {
        "schema": SCHEMA,
        "name": fit.name,
        "model": fit.result["model"],
        "outcome": fit.result["outcome"],
        "link": design.link,
        "confidence": confidence,
        "groups": out,
        "notes": _notes(fit),
    }
    new = new_unit(fit, confidence)
    if new is not None:
        document["new_unit"] = new.to_dict()
    return GroupsResult.from_dict(document)


def shared_effects(
    fit: Fit, block: int, terms: Sequence[str], others: Sequence[tuple[int, Sequence[str], Array]]
) -> list[Array]:
    """What other clauses add to a level's own coefficients of ``terms``: effects of its unit, and of the units that it lies in, (..., levels, k).

    ``others`` are the blocks, terms and effects (..., levels, k) of the other clauses.
    """
    blocks, out = fit.design.blocks, []
    own = blocks[block].unit
    for other, names, effects in others:
        unit = blocks[other].unit
        common = [t for t in terms if t in names and t != "spread"]
        if not common or not (other == block or own.name == unit.name or is_nested(own, unit)):
            continue
        place = np.zeros(own.size, dtype=np.intp)
        place[own.codes] = unit.codes
        made = np.zeros((*effects.shape[:-2], own.size, len(terms)))
        for t in common:
            made[..., terms.index(t)] = effects[..., place, names.index(t)]
        out.append(made)
    return out


def _rows(
    made: UnitEffects,
    average: Array,
    width: float,
    counts: Array,
    typical: Array,
    own_found: list[OwnEstimate] | None = None,
) -> list[dict[str, Any]]:
    """One entry per level, as in the contract."""
    rank = np.argsort(np.argsort(-made.effects[:, 0], kind="stable"), kind="stable") + 1
    ends = np.stack([made.effects - width * made.se, made.effects + width * made.se], axis=2)
    figures = [made.effects, made.se, made.effects + average, ends]
    effects, errors, own, intervals = ([dict(zip(made.terms, row)) for row in numbers(v)] for v in figures)
    rows: list[dict[str, Any]] = [
        {"level": level, "effects": u, "se": e, "coefficients": c, "ci": i, "rank": r, "rows": n}
        for level, u, e, c, i, r, n in zip(made.levels, effects, errors, own, intervals, rank.tolist(), counts.tolist())
    ]
    for row, estimate in zip(rows, own_found or []):
        row["own"] = estimate.to_dict()
    if len(typical):
        at = made.terms.index("spread")
        for j, row in enumerate(rows):
            row |= _own_sd(float(typical[j]), float(made.effects[j, at]), width * float(made.se[j, at]))
            row["coefficients"]["spread"] = number(np.log(row["residual_sd"]))
    return rows


def _typical_sd(fit: Fit, block: int) -> Array:
    """Per level, the residual SD that an average unit would have on its rows: the root of their mean variance, weights left out."""
    model: Any = fit.model
    variance = model.residual_sd() ** 2 * (1.0 if fit.design.weights is None else fit.design.weights)
    codes, counts = fit.design.blocks[block].unit.codes, fit.design.blocks[block].unit.counts
    return np.asarray(np.sqrt(np.bincount(codes, variance) / counts))


def _own_sd(typical: float, effect: float, width: float) -> dict[str, Any]:
    """A level's own residual SD with its interval, symmetric on the log scale."""
    own = typical * float(np.exp(effect))
    return {"residual_sd": number(own), "residual_sd_ci": [number(own * np.exp(-width)), number(own * np.exp(width))]}


def not_observed(fit: Fit) -> list[str]:
    """That errors of effects rest on the expected information, where the observed is not positive definite."""
    if getattr(fit.evaluation, "observed", True):
        return []
    return [
        "The observed information of effects and coefficients is not positive definite at their mode; the standard errors here rest on the "
        "expected one and are too small."
    ]


def _notes(fit: Fit) -> list[str]:
    notes = [
        "Effects are drawn towards zero, the more the fewer rows a unit has; ranks of units whose intervals overlap mean little."
    ]
    notes += not_observed(fit)
    if fit.design.random_spread:
        notes.append(
            "The residual SD of a unit is that of its own rows, where the spread clause gives them different ones that of the rows together; "
            "its effect and interval stand on the log scale."
        )
    if not fit.converged:
        notes.insert(0, "The fit did NOT converge; its predicted effects mean nothing. Mend the fit first.")
    return notes
