"""Sentence + table -> response, X, the blocks of Z and unit codes, with everything checked and named."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.codes import ends, see, suspicions
from bold_orchard.data.columns import factorize
from bold_orchard.data.table import Table
from bold_orchard.design import differing_units, outcomes, predictors, validation
from bold_orchard.design.design import Block, Clause, Design, Options, UnitCodes
from bold_orchard.design.known_matrices import factor, in_order, read_matrix
from bold_orchard.design.made_columns import dates_of, with_made_columns
from bold_orchard.design.magnitudes import check_scales
from bold_orchard.design.model_matrix import ModelMatrix, build_part
from bold_orchard.design.residual import ResidualPart, build_residual
from bold_orchard.design.response import family_and_link, read_response
from bold_orchard.design.transformations import ColumnMaker
from bold_orchard.errors import OrchardError, SentenceError, shown, unknown_name
from bold_orchard.families import family_of
from bold_orchard.sentence import tree

Array = NDArray[Any]
ANY = "(any outcome)"


def build_design(
    sentence: tree.Sentence, table: Table, options: Options, memory: dict[str, Any] | None = None
) -> Design:
    """Code a sentence on a table; what ``memory`` holds of the transformations' constants is taken, the rest learned.

    Raises OrchardError (SentenceError with a caret where a place is to blame) for everything that cannot be
    fitted as asked; see ``guards``.
    """
    check_columns(sentence, table)
    if sentence.outcome.more:
        return _of_several(sentence, table, options)
    family, link = family_and_link(sentence, options.family, options.link)
    validation.outcome_kind(sentence, table, options.family, family)
    several = predictors.several_of(sentence, family, link)
    if several and not sentence.predictors:
        return _of_predictors(sentence, table, options, family, link)
    table, filled = _fill_means(table, options.fill_mean)
    dates = dates_of(sentence, table)
    table, gaps = with_made_columns(sentence, table)
    used, dropped = _rows_used(sentence, table, options.weights)
    memory = {} if memory is None else dict(memory)
    maker = ColumnMaker(used, memory, options.baselines, text=sentence.source)
    response = read_response(sentence, maker, used, family, link, options.success, options.grades, options.baselines)
    y = response.y
    offsets, plain = split_offsets(sentence.terms, maker)
    fixed = fixed_part(plain, sentence, maker, family)
    units, clauses, blocks = _units_and_clauses(sentence, maker, used)
    additive = family_of(family, link, response.limits is not None).additive
    validation.residual_clauses(sentence, additive)
    differing_units.random_spread(sentence, additive)
    differing_units.varying_family(sentence, additive)
    residual = residual_of(sentence, maker, used)
    validation.known_errors(sentence, additive, options.weights)
    weights = row_weights(sentence, options.weights, used)
    notes = [*table.notes, *sentence.notes, *response.notes, *gaps, *(f"{f['rows']:,} missing cells of {f['column']} were filled with its mean, "
                                f"{f['value']:.6g}; its standard error is then too small." for f in filled)]  # fmt: skip
    seen = see(used, model_columns(sentence, options.weights), {})
    notes += validation.outcome_notes(sentence, seen, options.family)
    notes += check_baselines(options.baselines, sentence, table)
    design = Design(
        sentence=sentence,
        table=used,
        y=y - offsets if offsets is not None and additive else y,
        fixed=fixed,
        offset=offsets,
        weights=weights,
        units=units,
        clauses=clauses,
        blocks=blocks,
        residual=residual,
        memory=memory,
        rows={"read": table.read, "used": len(used), "dropped": dropped, "filled": filled}
        | censored_rows(y, response.limits),
        notes=tuple(notes),
        meanings=dates | maker.meanings,
        family=family,
        link=link,
        trials=response.trials,
        limits=response.limits,
        levels=response.levels,
        warnings=tuple(suspicions(seen)),
        ends=ends(seen),
    )
    validation.enough_rows(design)
    differing_units.units_above(design)
    far = check_scales(design)
    own = (
        *validation.units_and_slopes(design, options.force),
        *differing_units.spread_told(design),
        *differing_units.varying(design),
        *validation.many_levels(design),
    )
    return replace(design, notes=(*design.notes, *own, *far))


def _of_several(sentence: tree.Sentence, table: Table, options: Options) -> Design:
    """The design of several outcomes: that of the sentence and the table in which each has a row of its own."""
    outcomes.check(sentence, options.family, table)
    table, filled = _fill_means(table, options.fill_mean)
    dates = dates_of(sentence, table)
    table, gaps = with_made_columns(sentence, table)
    covariates = replace(sentence, outcome=tree.Outcome(tree.Column(ANY)))
    used, dropped = _rows_used(covariates, table.with_columns({ANY: np.zeros(len(table))}), options.weights)
    whole, long, observed = outcomes.stacked(sentence, used.only([c for c in used.columns if c != ANY]))
    design = build_design(whole, long, replace(options, fill_mean=(), family=None))
    counted = len(np.unique(long.numbers(outcomes.ROW)))
    if counted < len(used):
        dropped.append({"column": str(sentence.outcome), "rows": len(used) - counted})
    rows = {"read": table.read, "used": counted, "dropped": dropped, "filled": filled, "observed": observed}
    return replace(design, rows=rows, notes=(*gaps, *design.notes), meanings=dates | design.meanings)


def _of_predictors(sentence: tree.Sentence, table: Table, options: Options, family: str, link: str) -> Design:
    """The design of several linear predictors: that of the sentence and the table in which each has a row of its
    own."""
    table, filled = _fill_means(table, options.fill_mean)
    dates = dates_of(sentence, table)
    table, gaps = with_made_columns(sentence, table)
    used, dropped = _rows_used(sentence, table, options.weights)
    memory: dict[str, Any] = {}
    maker = ColumnMaker(used, memory, options.baselines, text=sentence.source)
    response = read_response(sentence, maker, used, family, link, options.success, options.grades, options.baselines)
    predictors.learn(sentence, maker)
    whole, long = predictors.stacked(sentence, used, family, link, response.levels)
    design = build_design(whole, long, replace(options, fill_mean=()), memory)
    rows = {"read": table.read, "used": len(used), "dropped": dropped, "filled": filled}
    rows |= censored_rows(response.y, response.limits)
    return replace(design, rows=rows, notes=(*gaps, *design.notes), meanings=dates | design.meanings)


def censored_rows(y: Array, limits: tuple[Array, Array] | None) -> dict[str, Any]:
    """How many rows lie at or beyond each limit; nothing where there are none."""
    if limits is None:
        return {}
    return {"censored": {"below": int((y <= limits[0]).sum()), "above": int((y >= limits[1]).sum())}}


def rebuild_parts(
    design: Design, table: Table, strict: bool = True
) -> tuple[ModelMatrix, tuple[ModelMatrix, ...], Array | None]:
    """The fixed part, the parts of all clauses and the offset over other rows, coded as in the fit; not ``strict``,
    with NaN where a function has no value.

    ``table`` holds the rows wanted, complete in all covariates.
    """
    table, _ = with_made_columns(design.sentence, table)
    maker = ColumnMaker(table, design.memory, learn=False, strict=strict)
    offsets, plain = split_offsets(design.sentence.terms, maker)
    fixed = fixed_part(plain, design.sentence, maker, design.family)
    return fixed, tuple(build_part(e.terms, False, maker) for e in design.sentence.clauses), offsets


def covariate_columns(sentence: tree.Sentence) -> list[str]:
    """Columns a prediction needs beside the units."""
    parts = (sentence.terms, tuple((e.terms, e.vary) for e in sentence.clauses))
    return [c.name for c in tree.columns_of(parts)]


def check_columns(sentence: tree.Sentence, table: Table) -> None:
    """Raise SentenceError, with a caret and the nearest name, for a column that is not in the table."""
    for given in sentence.lets:
        if table.has(given.name):
            message = f"'{given.name}' is a column of {table.name}; let needs a name of its own"
            raise SentenceError(message, sentence.source, given.place[0], given.place[1] - given.place[0])
    for column in tree.columns_of(sentence):
        if not table.has(column.name):
            message = unknown_name("column", column.name, table.columns, table.name, ["intercept"])
            raise SentenceError(message, sentence.source, column.place[0], column.place[1] - column.place[0])


def check_baselines(baselines: dict[str, str], sentence: tree.Sentence, table: Table) -> list[str]:
    """Raise OrchardError for a baseline of a column that is not there; a note for one that the sentence does not use."""
    notes = []
    names = {c.name for c in tree.columns_of((sentence.terms, sentence.clauses))}
    for column in baselines:
        if not table.has(column):
            raise OrchardError(unknown_name("column", column, table.columns, table.name) + " (in --baseline)")
        if column not in names:
            notes.append(f"The baseline of {column} was not needed: the sentence does not use {column}.")
    return notes


def model_columns(sentence: tree.Sentence, weights: str | None) -> list[str]:
    """Columns whose values the model uses, units aside."""
    parts = (
        sentence.outcome,
        sentence.terms,
        tuple((e.terms, e.vary) for e in sentence.clauses),
        sentence.spread,
        sentence.zeros,
        sentence.known,
    )
    time = sentence.within.structure.columns if sentence.within else ()
    names = [c.name for c in tree.columns_of((parts, time), units=False)]
    return list(dict.fromkeys([*names, *([weights] if weights else [])]))


def _fill_means(table: Table, columns: Sequence[str]) -> tuple[Table, list[dict[str, Any]]]:
    filled = []
    for column in columns:
        values = table.numbers(column)
        gaps = np.isnan(values)
        if gaps.all():
            raise OrchardError(f"'{column}' has no value at all, so it cannot be filled with its mean")
        mean = float(values[~gaps].mean())
        filled.append({"column": column, "rows": int(gaps.sum()), "value": mean})
        table = table.with_columns({column: np.where(gaps, mean, values)})
    return table, filled


def _rows_used(sentence: tree.Sentence, table: Table, weights: str | None) -> tuple[Table, list[dict[str, Any]]]:
    """Keep the complete rows; count each lost row under the first column that lost it."""
    columns = [c.name for c in tree.columns_of((sentence.outcome, sentence.terms, sentence.clauses))]
    columns += [c.name for c in tree.columns_of((sentence.within, sentence.spread, sentence.zeros))]
    columns += [weights] if weights else []
    columns += [c.written for c in sentence.lags]
    keep = np.ones(len(table), dtype=bool)
    dropped: list[dict[str, Any]] = []
    for column in dict.fromkeys(columns):
        lost = keep & table.is_missing(column)
        count = int(np.count_nonzero(lost))
        if count:
            dropped.append({"column": column, "rows": count})
            keep &= ~lost
    if not keep.any():
        worst = max(dropped, key=lambda d: d["rows"])
        raise OrchardError(
            f"no row of {table.name} is complete: '{worst['column']}' alone is missing in {worst['rows']:,} of "
            f"{len(table):,} rows; leave that column out or fill it"
        )
    return (table if not dropped else table.take(keep)), dropped


def fixed_part(terms: tuple[tree.Term, ...], sentence: tree.Sentence, maker: ColumnMaker, family: str) -> ModelMatrix:
    """The fixed part; of grades coded as with an intercept, whose place the thresholds take."""
    if family_of(family).intercept:
        return build_part(terms, sentence.intercept, maker)
    return build_part(terms, True, maker).without_intercept()


def split_offsets(terms: tuple[tree.Term, ...], maker: ColumnMaker) -> tuple[Array | None, tuple[tree.Term, ...]]:
    """The sum of all offset(...) terms, and the other terms."""
    total, plain = None, []
    for term in terms:
        factor = term.factors[0]
        if isinstance(factor, tree.Call) and factor.function == "offset":
            values = maker.numeric(factor, "offset").values[0]
            total = values if total is None else total + values
        else:
            plain.append(term)
    return total, tuple(plain)


def weights_of(column: str | None, table: Table) -> Array | None:
    if column is None:
        return None
    weights = table.numbers(column)
    bad = ~(weights > 0) | ~np.isfinite(weights)
    if bad.any():
        first = ", ".join(map(str, table.row_numbers[bad][:3]))
        raise OrchardError(f"weights must be positive, but '{column}' is not in {bad.sum():,} rows (first: {first})")
    return weights


def row_weights(sentence: tree.Sentence, column: str | None, table: Table) -> Array | None:
    """What each row weighs: 1 / SD^2 where the SDs of errors are known, else the column of --weights.

    Raises OrchardError, naming the row, for an SD that is missing, zero or negative.
    """
    if sentence.known is None:
        return weights_of(column, table)
    name = sentence.known.name
    se = table.numbers(name)
    bad = ~(se > 0) | ~np.isfinite(se)
    if bad.any():
        row, value = table.row_numbers[bad][0], se[bad][0]
        more = f" ({int(bad.sum()):,} such rows)" if bad.sum() > 1 else ""
        raise OrchardError(
            f"the standard error '{name}' is {'missing' if np.isnan(value) else f'{value:g}'} in row {row}{more}; "
            "it must be above zero in every row: mend it, or leave the row out with --where"
        )
    return np.asarray(1.0 / se**2)


def residual_of(sentence: tree.Sentence, maker: ColumnMaker, table: Table) -> ResidualPart:
    if sentence.within is None:
        return build_residual(sentence, maker, None, [])
    codes = unit_codes(sentence.within.unit, table)
    return build_residual(sentence, maker, codes.codes, codes.texts)


def _units_and_clauses(
    sentence: tree.Sentence, maker: ColumnMaker, table: Table
) -> tuple[tuple[UnitCodes, ...], tuple[Clause, ...], tuple[Block, ...]]:
    units: dict[str, UnitCodes] = {}
    for each in sentence.clauses:
        if str(each.unit) not in units:
            units[str(each.unit)] = unit_codes(each.unit, table)
    parts = [build_part(e.terms, False, maker) for e in sentence.clauses]
    varied = [columns_that_vary(e.vary, maker) for e in sentence.clauses]
    return tuple(units.values()), *clauses_over(sentence, units, parts, varied)


def clauses_over(
    sentence: tree.Sentence, units: dict[str, UnitCodes], parts: Sequence[ModelMatrix], varied: Sequence[ModelMatrix | None]
) -> tuple[tuple[Clause, ...], tuple[Block, ...]]:  # fmt: skip
    """Clauses of one unit share a block, except those with a known covariance between levels."""
    shared: dict[str, int] = {}
    blocks: list[Block] = []
    widths: list[int] = []
    clauses = []
    for each, part, vary in zip(sentence.clauses, parts, varied):
        name = str(each.unit)
        between = each.structure.kind == "known" or each.structure.over == "units"
        if between or name not in shared:
            blocks.append(_with_matrix(units[name], each.structure, part) if between else Block(units[name]))
            widths.append(0)
        if not between:
            shared.setdefault(name, len(blocks) - 1)
        block = len(blocks) - 1 if between else shared[name]
        columns = slice(widths[block], widths[block] + len(part.names))
        widths[block] = columns.stop
        place = list(units).index(name)
        clauses.append(Clause(place, part, each.structure, block, columns, _given(each.structure, part), vary))
    return tuple(clauses), tuple(blocks)


def columns_that_vary(terms: tuple[tree.Term, ...], maker: ColumnMaker) -> ModelMatrix | None:
    """The columns after ``vary with``, coded as beside an intercept, which the clause's own SDs are."""
    return build_part(terms, True, maker).without_intercept() if terms else None


def _with_matrix(unit: UnitCodes, structure: tree.Structure, part: ModelMatrix) -> Block:
    """A block whose levels are the labels of a matrix file."""
    assert structure.file is not None
    if structure.kind == "given" and len(part.names) != 1:
        raise OrchardError(
            f"given units gives the covariance of one effect per {unit.name}, but the clause has {len(part.names)} terms"
        )
    labels, matrix = read_matrix(structure.file, structure.kind)
    place = {label: i for i, label in enumerate(labels)}
    absent = [t for t in unit.texts if t not in place]
    if absent:
        raise OrchardError(
            f"{structure.file} has no row for {unit.name} {', '.join(shown(absent, 3))}; every {unit.name} of the data must be in it"
        )
    codes = np.array([place[t] for t in unit.texts], dtype=np.intp)[unit.codes]
    known = UnitCodes(unit.name, codes, len(labels), (), tuple(labels))
    return Block(known, factor(matrix, structure.file, definite=structure.kind == "known"))


def _given(structure: tree.Structure, part: ModelMatrix) -> Array | None:
    """The factor of a covariance between terms that is given whole; 1 when that between units is given."""
    if structure.kind != "given":
        return None
    if structure.over == "units":
        return np.ones((1, 1))
    assert structure.file is not None
    labels, matrix = read_matrix(structure.file, "given")
    return factor(in_order(structure.file, labels, matrix, list(part.names), "term"), structure.file, definite=False)


def unit_codes(unit: tree.Unit, table: Table) -> UnitCodes:
    """Number the levels of a unit; ``tree in orchard`` has one level per tree of each orchard. Rows without a label have code -1."""
    if not unit.columns:  # of a curve of all rows
        return UnitCodes(str(unit), np.zeros(len(table), dtype=np.intp), 1, (), ("all rows",), curve=True)
    labels = [table.labels(c.name) for c in unit.columns]
    known = np.all([label.codes >= 0 for label in labels], axis=0)
    if not known.all():
        made = unit_codes(unit, table.take(known)) if known.any() else UnitCodes(str(unit), np.zeros(0, np.intp), 0, ())
        codes = np.full(len(table), -1, dtype=np.intp)
        codes[known] = made.codes
        return replace(made, codes=codes)
    if len(labels) == 1:
        size = len(labels[0].raw)
        return UnitCodes(str(unit), labels[0].codes, size, ((labels[0], np.arange(size)),))
    joint = labels[0].codes.astype(np.int64)
    for other in labels[1:]:
        joint = factorize(joint * len(other.raw) + other.codes)[0]
    size = int(joint.max()) + 1
    parts = []
    for label in labels:
        index = np.empty(size, dtype=np.intp)
        index[joint] = label.codes
        parts.append((label, index))
    return UnitCodes(str(unit), np.asarray(joint, dtype=np.intp), size, tuple(parts))
