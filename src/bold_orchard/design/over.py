"""A design over other rows, coded as in the fit, their outcome not yet known."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from bold_orchard.data.table import Table
from bold_orchard.design import predictors
from bold_orchard.design.build import columns_that_vary, rebuild_parts, residual_of, row_weights, unit_codes
from bold_orchard.design.design import Block, Design, UnitCodes
from bold_orchard.design.made_columns import with_made_columns
from bold_orchard.design.outcomes import every, is_stacked
from bold_orchard.design.response import limits_of
from bold_orchard.design.transformations import ColumnMaker
from bold_orchard.errors import OrchardError, unknown_name
from bold_orchard.sentence import tree


def complete_rows(design: Design, table: Table, weights: str | None) -> Table:
    """The rows that have all that the model needs but the outcome; raises OrchardError for a column that is absent."""
    sentence = design.sentence
    parts = (
        sentence.terms,
        sentence.clauses,
        sentence.within,
        sentence.spread,
        sentence.known,
        sentence.outcome.trials,
        sentence.outcome.limits,
    )
    needed = [c.name for c in tree.columns_of(parts)]
    for name in [*needed, *([weights] if weights else [])]:
        if not table.has(name):
            raise OrchardError(unknown_name("column", name, table.columns, table.name))
    table, _ = with_made_columns(sentence, table)
    keep = np.ones(len(table), dtype=bool)
    for name in [*needed, *([weights] if weights else []), *(c.written for c in sentence.lags)]:
        keep &= ~table.is_missing(name)
    if not keep.any():
        raise OrchardError(f"no row of {table.name} has all that the model needs")
    return table if keep.all() else table.take(keep)


def design_over(design: Design, table: Table, weights: str | None = None) -> Design:
    """The same sentence over the complete rows of ``table``, coded with the means, knots and levels of the fit; ``y`` is 0.

    Raises OrchardError for a level that the fit does not know and for residuals that such rows cannot have.
    """
    if not is_stacked(table):
        table = every(table, design.sentence) if design.outcomes else table
        table = predictors.every(table, design.predictors) if design.predictors else table
    used = complete_rows(design, table, weights)
    fixed, parts, offset = rebuild_parts(design, used)
    maker = ColumnMaker(used, design.memory, learn=False)
    made = {str(e.unit): unit_codes(e.unit, used) for e in design.sentence.clauses}
    blocks = tuple(_block(b, made[b.unit.name]) for b in design.blocks)
    trials = design.sentence.outcome.trials
    return replace(
        design,
        table=used,
        y=np.zeros(len(used)),
        fixed=fixed,
        offset=offset,
        weights=row_weights(design.sentence, weights, used),
        units=tuple(made[u.name] for u in design.units),
        clauses=tuple(
            replace(c, part=p, vary=columns_that_vary(e.vary, maker))
            for c, p, e in zip(design.clauses, parts, design.sentence.clauses)
        ),
        blocks=blocks,
        residual=residual_of(design.sentence, maker, used),
        trials=None if trials is None else used.numbers(trials.name),
        limits=limits_of(design.sentence, used),
    )


def recoded(design: Design, table: Table) -> Design:
    """The same rows with other values of their covariates, those of ``table``; what the transformations learned is kept."""
    fixed, parts, offset = rebuild_parts(design, table)
    maker = ColumnMaker(table, design.memory, learn=False)
    clauses = tuple(
        replace(c, part=p, vary=columns_that_vary(e.vary, maker))
        for c, p, e in zip(design.clauses, parts, design.sentence.clauses)
    )
    y = design.y
    if design.additive and offset is not None:
        y = design.outcome_values - offset
    return replace(design, table=table, y=y, fixed=fixed, offset=offset, clauses=clauses)


def _block(block: Block, unit: UnitCodes) -> Block:
    """Levels whose covariance is known keep their places in its matrix."""
    if block.relationship_factor is None:
        return Block(unit)
    place = {t: i for i, t in enumerate(block.unit.texts)}
    new = [t for t in unit.texts if t not in place]
    if new:
        raise OrchardError(f"the matrix of {unit.name} has no row for {new[0]}, so no effect of it can be drawn")
    codes = np.array([place[t] for t in unit.texts], dtype=np.intp)[unit.codes]
    return Block(replace(block.unit, codes=codes), block.relationship_factor)
