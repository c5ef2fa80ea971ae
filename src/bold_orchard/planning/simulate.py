"""Outcomes drawn from a fit, as a table that the same sentence could be fitted to."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from bold_orchard.data.table import Table
from bold_orchard.design.design import Design
from bold_orchard.design.outcomes import ROW, VALUE
from bold_orchard.design.over import design_over
from bold_orchard.design.transformations import OUTCOME
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.estimation.assumed import Assumed, assumed_of, drawn_outcome, drawn_parts, drawn_residual, family_over
from bold_orchard.inference.fit import Fit
from bold_orchard.machine import check_room
from bold_orchard.results.simulate import SimulateResult
from bold_orchard.sentence import tree

Array = NDArray[Any]
SCHEMA = "bold-orchard/simulate/1"
CELL = 16.0  # bytes of a cell of the table drawn, which is held twice while it is made
INVERSE: dict[str, Callable[[Array], Array]] = {
    "log": np.exp,
    "sqrt": np.square,
    "log10": lambda v: np.power(10.0, v),
    "exp": np.log,
}


def simulate(fit: Fit, table: Table, draws: int, seed: int) -> SimulateResult:
    """The document of ``orchard simulate``; ``drawn`` holds the rows: the data's columns, the outcome drawn, and ``draw`` from 1 on.

    Unit effects are drawn anew in each draw. Raises OrchardError for rows that the fit cannot serve, UsageError for no draws.
    """
    if draws < 1:
        raise UsageError("--draws is a whole number above zero")
    if not fit.converged:
        raise OrchardError(f"the fit '{fit.name}' did not converge, so nothing is drawn from it; mend it first")
    design = design_over(fit.design, table, fit.settings.options.weights)
    cells = (len(table.columns) + 3) * len(design.y)
    check_room(CELL * float(draws) * cells, f"{draws:,} draws of {len(design.y):,} rows", "ask for fewer with --draws")
    assumed, rng = assumed_of(fit.model), np.random.default_rng(seed)
    drawer = _Drawer(design, assumed, rng)
    one = slice(None, None, max(len(design.predictors), 1))  # rows of the table
    name, values = _column(fit, table), [drawer.one()[one] for _ in range(draws)]
    rows = design.table.frame[[c for c in table.columns if design.table.has(c)]].iloc[one]
    made = pd.concat([rows] * draws, ignore_index=True)
    made[name] = np.concatenate([_as_measured(fit, v) for v in values])
    number = "draw" if not table.has("draw") else f"draw of {fit.name}"
    if fit.design.outcomes:
        made["(draw)"] = np.repeat(np.arange(draws), len(rows))
        made = _by_outcome(fit, made, name)
        rows = made.iloc[: len(made) // draws]
    made.insert(0, number, np.repeat(np.arange(1, draws + 1), len(rows)))
    left = len(table) - len(rows)
    notes = (
        [f"Effects of {', '.join(dict.fromkeys(u.name for u in fit.design.groups))} were drawn anew in each draw."]
        if fit.design.groups
        else []
    )
    if left:
        notes.append(f"{left:,} rows lack something the model needs and were left out.")
    if name != str(fit.design.sentence.outcome) and isinstance(fit.design.sentence.outcome.value, tree.Call):
        notes.append(f"The outcome of the model is {fit.design.sentence.outcome}; {name} was brought back from it.")
    document = {
        "schema": SCHEMA, "name": fit.name, "model": fit.result["model"], "outcome": name, "scale": str(fit.design.sentence.outcome), "draws": draws, "rows": len(rows),
        "seed": seed, "summary": [_summary(fit, k, v) for k, v in (("drawn", np.concatenate(values)), ("observed", fit.of_table.design.outcome_values))],
        "notes": notes,
    }  # fmt: skip
    return SimulateResult.from_dict(document).with_keys(drawn=made)


def _by_outcome(fit: Fit, long: Any, name: str) -> Any:
    """Rows of several outcomes beside each other again, one for each row of the table."""
    key = ["(draw)", ROW]
    wide = long.drop_duplicates(key).set_index(key).drop(columns=[OUTCOME, VALUE, name], errors="ignore")
    for outcome in fit.design.outcomes:
        wide[outcome] = long[long[OUTCOME] == outcome].set_index(key)[name]
    return wide.reset_index(drop=True)


class _Drawer:
    """One outcome after another over the same rows."""

    def __init__(self, design: Design, assumed: Assumed, rng: np.random.Generator) -> None:
        self.design, self.assumed, self.rng = design, assumed, rng
        self.family = None if design.additive else family_over(design)

    def one(self) -> Array:
        """As ``design.y`` has it, the offset in it again."""
        eta, own = drawn_parts(self.design, self.assumed, self.rng)
        eta = eta if self.design.offset is None else eta + self.design.offset
        if self.family is None:
            return eta + drawn_residual(self.design, self.assumed, self.rng) * np.exp(own)
        return drawn_outcome(self.design, self.family, eta, self.assumed.extra, self.rng)


def _column(fit: Fit, table: Table) -> str:
    """The column that the outcome is written to: the raw one where the outcome can be brought back to it."""
    value = fit.design.sentence.outcome.value
    if isinstance(value, tree.Column):
        return value.name
    inner = value.arguments[0] if isinstance(value, tree.Call) and value.function in INVERSE else None
    return inner.name if isinstance(inner, tree.Column) else str(value)


def _as_measured(fit: Fit, y: Array) -> Any:
    """The drawn outcome as the data have it: labels of levels and grades, whole counts, functions undone."""
    design, value = fit.design, fit.design.sentence.outcome.value
    if design.levels:
        labels = np.array(design.levels, dtype=object)
        if len(design.levels) == 2 and fit.model.family.reads == "two levels":
            labels = labels if _success(fit) == design.levels[1] else labels[::-1]
        made = pd.Series(labels[y.astype(np.intp)])
        number = pd.to_numeric(made, errors="coerce")
        return (number if number.notna().all() else made).to_numpy()
    if isinstance(value, tree.Call) and value.function in INVERSE and isinstance(value.arguments[0], tree.Column):
        with np.errstate(all="ignore"):
            return INVERSE[value.function](y)
    return y.astype(np.int64) if fit.model.family.measure in ("counts", "trials") else y


def _success(fit: Fit) -> str:
    """The level that 1 stands for."""
    value = fit.design.sentence.outcome.value
    assert isinstance(value, tree.Column)
    labels = fit.design.table.labels(value.name)
    won = labels.codes[fit.design.y == 1]
    return labels.texts[int(won[0])] if len(won) else fit.design.levels[1]


def _summary(fit: Fit, what: str, y: Array) -> dict[str, Any]:
    """Of the modelled outcome: shares of trials, grades counted from 1."""
    y, trials = y + 1.0 if fit.design.graded else y, fit.of_table.design.trials
    if trials is not None:
        y = y / np.resize(trials, len(y))
    q = np.quantile(y, [0.0, 0.25, 0.5, 0.75, 1.0])
    return {"what": what, "mean": float(y.mean()), "sd": float(y.std(ddof=1)) if len(y) > 1 else None} | dict(
        zip(("lowest", "lower_quarter", "median", "upper_quarter", "highest"), map(float, q))
    )
