"""Units' effects from draws."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.errors import OrchardError
from bold_orchard.inference.prediction.groups import shared_effects
from bold_orchard.inference.summary import number
from bold_orchard.results.groups import GroupsResult
from bold_orchard.sampling.answers.draws import Draws

Array = NDArray[Any]
MOST_RANKED = 20_000_000  # draws times levels that are put in order


def groups(draws: Draws, confidence: float = 0.95) -> GroupsResult:
    """The document of ``orchard groups`` from draws: means, SDs and equal-tailed intervals of effects and of units' own coefficients.

    ``rank`` is by the mean of the first effect, ``rank_ci`` holds the level's place among the others in so many of the draws. Raises
    OrchardError for a fit without units.
    """
    fit = draws.fit
    design = fit.design
    if not design.clauses:
        raise OrchardError(f"'{fit.name}' has no each clause, so there are no units to look at")
    fixed = {design.fixed.names[k]: draws.b[:, i] for i, k in enumerate(fit.model.kept)}
    level = [(1.0 - confidence) / 2.0, (1.0 + confidence) / 2.0]
    out, notes = [], list(draws.warnings)
    for clause in design.clauses:
        unit, terms = design.blocks[clause.block].unit, clause.part.names
        effects = draws.effects[clause.block][:, :, clause.columns]
        others = [
            (c.block, c.part.names, draws.effects[c.block][:, :, c.columns]) for c in design.clauses if c is not clause
        ]
        own = np.stack(
            [effects[:, :, i] + fixed.get(t, np.zeros(draws.count))[:, None] for i, t in enumerate(terms)], axis=2
        )
        own = sum(shared_effects(fit, clause.block, terms, others), own)
        spread = (
            _residual_sds(draws, effects[:, :, terms.index("spread")])
            if clause.has_spread and "spread" in terms
            else None
        )
        if spread is not None:
            own[:, :, terms.index("spread")] = np.log(spread)
        told = [_told(x, level) for x in (effects, own)]
        first = told[0][0][:, 0]
        order = np.argsort(np.argsort(-first, kind="stable"), kind="stable")
        places = _places(effects[:, :, 0], level)
        if places is None:
            notes.append(
                f"The {unit.size:,} levels of {unit.name} were not put in order at every draw, so their places have no intervals."
            )
        rows = []
        for j, name in enumerate(unit.texts):
            row: dict[str, Any] = {
                "level": name, "effects": _by_term(terms, told[0][0][j]), "se": _by_term(terms, told[0][1][j]), "coefficients": _by_term(terms, told[1][0][j]),
                "ci": {t: [number(v) for v in told[0][2][:, j, i]] for i, t in enumerate(terms)}, "rank": int(order[j]) + 1, "rows": int(unit.counts[j]),
                "coefficients_ci": {t: [number(v) for v in told[1][2][:, j, i]] for i, t in enumerate(terms)},
            }  # fmt: skip
            if places is not None:
                row["rank_ci"] = [float(v) for v in places[:, j]]
            if spread is not None:
                low, high = np.quantile(spread[:, j], level)
                row |= {"residual_sd": number(spread[:, j].mean()), "residual_sd_ci": [number(low), number(high)]}
            rows.append(row)
        out.append(
            {
                "group": design.units[clause.unit].name,
                "terms": list(terms),
                "in_fixed": [t in fixed for t in terms],
                "rows": rows,
            }
        )
    document: dict[str, Any] = {
        "schema": "bold-orchard/groups/1", "name": fit.name, "model": fit.result["model"], "outcome": fit.result["outcome"], "link": design.link,
        "confidence": confidence, "groups": out, "notes": notes, "posterior": draws.origin,
    }  # fmt: skip
    return GroupsResult.from_dict(document)


def _told(values: Array, level: list[float]) -> tuple[Array, Array, Array]:
    """Means and SDs (levels, k) and ends (2, levels, k) of draws (D, levels, k)."""
    return values.mean(axis=0), values.std(axis=0, ddof=1), np.quantile(values, level, axis=0)


def _by_term(terms: tuple[str, ...], values: Array) -> dict[str, float | None]:
    return {t: number(v) for t, v in zip(terms, values)}


def _places(values: Array, level: list[float]) -> Array | None:
    """Ends of each level's place, the largest first, (2, levels)."""
    if values.size > MOST_RANKED:
        return None
    places = np.argsort(np.argsort(-values, axis=1, kind="stable"), axis=1, kind="stable") + 1
    return np.asarray(np.quantile(places, level, axis=0, method="inverted_cdf"))


def _residual_sds(draws: Draws, effects: Array) -> Array:
    """Each level's own residual SD on its rows, weights left out, (D, levels)."""
    design = draws.fit.design
    unit = next(design.blocks[c.block].unit for c in design.clauses if c.has_spread)
    spread = design.residual.spread
    typical = np.ones((1, unit.size))
    if spread is not None:
        values = np.array(spread.values)
        typical = np.array(
            [np.sqrt(np.bincount(unit.codes, np.exp(2.0 * (g @ values))) / unit.counts) for g in draws.gamma]
        )
    assert draws.log_sd is not None
    return np.asarray(typical * np.exp(draws.log_sd[:, None] + effects))
