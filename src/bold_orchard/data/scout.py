"""What a table holds, before any model: columns, missing cells, and which columns group the rows."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.codes import Seen, missing_option
from bold_orchard.data.columns import Column
from bold_orchard.data.missing_cells import patterns, related
from bold_orchard.data.plausible import plausible, times
from bold_orchard.data.table import Labels, Table
from bold_orchard.data.units import columns_of_unit, constant_or_varies, duplicates_of, is_time, joint, nesting_of
from bold_orchard.errors import OrchardError, UsageError, shown, unknown_name
from bold_orchard.results.scout import ScoutPicture, ScoutResult
from bold_orchard.sentence.tree import column_text

SCHEMA = "bold-orchard/scout/1"
MOST_UNITS = 5  # units whose nesting is still read at a glance
FEW_LEVELS = 5  # levels below which a column rather looks like a treatment than like units
INSIDE = ("nested", "labels repeat")  # relations of a unit and its parent
FIRST_ROWS = 5
MOST_CELLS = 2_000  # of --by: more are no summary
ROW_NUMBER = "row number"
LEAST_NUMBERED = 10  # rows, below which numbers may run on by chance
NUMBERING = re.compile(
    r"(?:^|[_. -])(?:id|no|nr|num|number|row|index|obs|observation|record|serial)\d*$", re.IGNORECASE
)
STANDARD_ERROR = re.compile(r"(?:^|[_. -])(?:se|sem|s\.e\.?|std[_. -]?err(?:or)?|standard[_. -]?error)$", re.IGNORECASE)
LIKELY = 0.5  # score from which a column is called a likely unit


def scout(table: Table, units: Sequence[str] = (), outcome: str | None = None, by: Sequence[str] = ()) -> ScoutResult:
    """The document of ``orchard scout``; ``units`` are the grouping columns asked about (default: the likely ones),
    ``outcome`` the column that its picture draws and that is summarised in each cell of the columns ``by``.
    """
    for option, asked in (("--by", by), ("--outcome", [outcome] if outcome is not None else [])):
        for column in asked:
            if not table.has(column):
                raise OrchardError(unknown_name("column", column, table.columns, table.name) + f" (in {option})")
    for column in (c for unit in units for c in columns_of_unit(unit)):
        if not table.has(column):
            raise OrchardError(unknown_name("column", column, table.columns, table.name) + " (in --unit)")
    table.data.fetch(table.columns)
    read, table = table, without_codes(table)
    labels = {c: table.labels(c) for c in table.columns if table.kind(c) != "empty"}
    columns = _columns(table, labels, read)
    groupings = _groupings(table, columns, labels)
    likely = [g["column"] for g in groupings if g["score"] >= LIKELY]
    chosen = list(units) or likely[:MOST_UNITS]
    levels = {u: labels[u] if u in labels else joint(columns_of_unit(u), labels) for u in chosen
              if all(c in labels for c in columns_of_unit(u))}  # fmt: skip
    for entry in columns:
        name = entry["column"]
        entry["levels_within"] = {u: constant_or_varies(labels.get(name), at) for u, at in levels.items() if u != name}
    single = [u for u in units if u in labels]
    asked = list(dict.fromkeys([*single, *likely]))[: MOST_UNITS + len(single)]
    counters = [g["column"] for g in groupings if g["column"] not in asked and not is_time(g["column"])]
    nesting = nesting_of(asked, labels, groupings, counters)
    known = [*likely, *(n["unit"] for n in nesting if n["relation"] == "labels repeat")]
    errors = _standard_errors(columns)
    document = {
        "schema": SCHEMA,
        "name": table.name,
        "rows": len(table),
        "columns": columns,
        "groupings": groupings,
        "units": chosen,
        "nesting": nesting,
        "duplicates": duplicates_of(nesting, likely, labels),
        "outcomes": [o for o in plausible(table, columns, known) if o["column"] not in errors],
        "times": times(columns),
        "sentences": [],
        "first_rows": _first_rows(read),
        "notes": [],
    }
    document["sentences"] = [*_sentences(columns, groupings, nesting, labels), *_with_known_errors(document)]
    document["notes"] = [*table.notes, *_notes(document)]
    together, gone_by = patterns(table), related(table)
    if len({c for m in together for c in m["missing"]}) > 1:
        document["missing_together"] = together
    if gone_by:
        document["missing_by"] = gone_by
    if by:
        document["cells"] = _cells(table, by, outcome or _outcome_of(document), labels)
    return ScoutResult.from_dict(document).with_keys(picture=_picture(table, document, units, outcome, labels))


def _first_rows(table: Table) -> list[dict[str, Any]]:
    """The first rows as they were read: numbers, texts, None where a cell is missing."""
    few = table.take(np.arange(min(FIRST_ROWS, len(table))))
    columns = {c: few.labels(c) for c in few.columns if few.kind(c) != "empty"}
    numeric = {c for c in columns if few.kind(c) == "number"}
    rows = []
    for i in range(len(few)):
        row: dict[str, Any] = dict.fromkeys(few.columns)
        for c, labels in columns.items():
            k = labels.codes[i]
            row[c] = None if k < 0 else labels.raw[k].item() if c in numeric else labels.texts[k]
        rows.append(row)
    return rows


def _outcome_of(document: dict[str, Any]) -> str:
    """The numeric outcome that the proposed sentences have; raises UsageError where there is none."""
    numeric = {c["column"] for c in document["columns"] if c["kind"] == "number"}
    known = [o["column"] for o in document["outcomes"] if o["column"] in numeric]
    if not known:
        raise UsageError("--by needs --outcome: name the column to summarise")
    first = [c for c in _outcomes_of_sentences(document)[:1] if c in known]
    return first[0] if first else known[0]


def _outcomes_of_sentences(document: dict[str, Any]) -> list[str]:
    """The columns that the proposed sentences explain, in their order."""
    texts = {column_text(c["column"]): c["column"] for c in document["columns"]}
    found = [next((texts[t] for t in texts if s.startswith(f"{t} = ")), None) for s in document["sentences"]]
    return list(dict.fromkeys(c for c in found if c is not None))


def _cells(table: Table, by: Sequence[str], outcome: str, labels: dict[str, Labels]) -> list[dict[str, Any]]:
    """Rows with an outcome, by the levels of some columns in their order; cells without rows stand with n = 0."""
    values = table.numbers(outcome)
    empty = [c for c in by if c not in labels]
    if empty:
        raise OrchardError(f"{empty[0]} is empty in every row, so there is nothing to summarise by (in --by)")
    ordered = [labels[c].ordered for c in by]
    shape = [len(texts) for texts, _ in ordered]
    count = float(np.prod(np.array(shape, dtype=float)))
    if count > MOST_CELLS:
        raise UsageError(f"--by {'+'.join(by)} makes {count:,.0f} cells; name columns of fewer levels")
    places = [np.append(place, -1)[labels[c].codes] for c, (_, place) in zip(by, ordered)]
    keep = np.isfinite(values) & np.all([p >= 0 for p in places], axis=0)
    cell = np.ravel_multi_index([p[keep] for p in places], shape)
    n = np.bincount(cell, minlength=int(count))
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = np.bincount(cell, values[keep], minlength=len(n)) / n
        sd = np.sqrt(np.bincount(cell, (values[keep] - mean[cell]) ** 2, minlength=len(n)) / (n - 1))
    return [
        {
            "outcome": outcome,
            "levels": {c: texts[k] for c, (texts, _), k in zip(by, ordered, np.unravel_index(i, shape))},
            "n": int(n[i]),
            "mean": float(mean[i]) if n[i] else None,
            "sd": float(sd[i]) if n[i] > 1 else None,
        }
        for i in range(len(n))
    ]


def units_of(table: Table) -> list[str]:
    """Units as a sentence names them, that the rows seem to have: columns that group them, and labels that start again with their parents.

    Times are no units, and each has two rows a level or more.
    """
    table.data.fetch(table.columns)
    labels = {c: table.labels(c) for c in table.columns if table.kind(c) != "empty"}
    columns = _columns(table, labels, table)
    groupings = _groupings(table, columns, labels)
    likely = [g["column"] for g in groupings if g["score"] >= LIKELY]
    counters = [g["column"] for g in groupings if g["column"] not in likely and not is_time(g["column"])]
    repeats = {
        n["unit"]: n["parent"]
        for n in nesting_of(likely[:MOST_UNITS], labels, groupings, counters)
        if n["relation"] == "labels repeat"
    }
    found = [
        [c, *columns_of_unit(repeats[c])] if c in repeats else [c]
        for c in dict.fromkeys([*likely, *repeats])
        if not is_time(c)
    ]
    enough = [u for u in found if (at := joint(u, labels)) and len(at.codes) >= 2 * len(at.raw)]
    return [" in ".join(map(column_text, u)) for u in enough]


def _picture(
    table: Table, document: dict[str, Any], asked: Sequence[str], outcome: str | None, labels: dict[str, Labels]
) -> ScoutPicture | str:
    """What is drawn: an outcome by unit; or why nothing can be."""
    units = list(asked) or [g["column"] for g in document["groupings"]]
    if not units or not all(c in labels for c in columns_of_unit(units[0])):
        return "--figure needs --unit: no column seems to group the rows"
    drawn = outcome or next(iter(_outcomes_of_sentences(document)), None)
    if drawn is None:
        return "--figure needs --outcome: name the column to draw"
    at = joint(columns_of_unit(units[0]), labels)
    return ScoutPicture(drawn, units[0], table.numbers(drawn), at.codes, at.texts)


def without_codes(table: Table) -> Table:
    """The table with suspected codes for missing taken out, so that they colour no figure and no suggestion."""
    made: dict[str, Column] = {}
    for name in table.columns:
        codes = Seen.of(table.numbers(name)).suspected() if table.kind(name) == "number" else {}
        if codes:
            values = table.numbers(name)
            made[name] = np.where(np.isin(values, list(codes)), np.nan, values)
    return table.with_columns(made) if made else table


def _columns(table: Table, labels: dict[str, Labels], read: Table) -> list[dict[str, Any]]:
    """All columns; a row number is neither unit, outcome nor predictor."""
    out = [_column(table, c, labels.get(c), read) for c in table.columns]
    counts = {e["column"]: e["distinct"] for e in out}
    for entry in out:
        name = entry["column"]
        if entry["kind"] == "number" and entry["whole"] and not entry["missing"] and not is_time(name):
            others = [labels[c] for c in labels if c != name and 2 <= counts[c] <= len(table) // 2]
            if _numbers_rows(name, table.numbers(name), others):
                entry["kind"] = ROW_NUMBER
    return out


def _numbers_rows(name: str, values: NDArray[np.float64], others: Sequence[Labels]) -> bool:
    """Whether whole numbers run through the rows of the file one by one, or, where the name says so, through those of each level of a column."""
    steps = np.diff(values)
    if len(values) >= LEAST_NUMBERED and (steps == 1).all():
        return True
    if not NUMBERING.search(name) or len(values) < LEAST_NUMBERED:
        return False
    if len(np.unique(values)) == len(values):
        return True
    new = values[1:] == values.min()
    return any(
        bool((steps[~new] == 1).all() and (np.diff(at.codes)[~new] == 0).all() and (at.codes >= 0).all())
        for at in others
    )


def _column(table: Table, name: str, labels: Labels | None, read: Table) -> dict[str, Any]:
    """One column; missing cells and suspected codes are counted in the table as ``read``."""
    missing = int(read.is_missing(name).sum())
    kind = table.kind(name)
    entry: dict[str, Any] = {
        "column": name,
        "kind": kind,
        "missing": missing,
        "distinct": 0 if labels is None else len(labels.raw),
        "suspected_missing_codes": [],
        "levels_within": {},
        "whole": False,
    }
    if kind == "number" and labels is not None:
        values = np.asarray(labels.raw, dtype=float)
        values = values[np.isfinite(values)]
        if not len(values):
            return entry
        numbers = table.numbers(name)
        entry |= {
            "min": float(values.min()),
            "max": float(values.max()),
            "mean": float(numbers[np.isfinite(numbers)].mean()),
        }
        present = numbers[np.isfinite(numbers)]
        entry["sd"] = float(present.std(ddof=1)) if len(present) > 1 else None
        entry["whole"] = bool(np.all(values == np.floor(values)))
        entry["suspected_missing_codes"] = list(Seen.of(read.numbers(name)).suspected())
    elif kind == "category" and labels is not None:
        order = labels.positions if len(labels.texts) <= 2000 else range(len(labels.texts))
        entry["levels"] = [labels.texts[i] for i in list(order)[:20]]
        entry["odd_cells"] = table.odd_cells(name).strip()
    return entry


def _groupings(table: Table, columns: list[dict[str, Any]], labels: dict[str, Labels]) -> list[dict[str, Any]]:
    out = []
    n = len(table)
    for entry in columns:
        name = entry["column"]
        if name not in labels or entry["kind"] == ROW_NUMBER:
            continue
        counts = np.bincount(labels[name].codes[labels[name].codes >= 0])
        score, reason = _score(entry, counts, n)
        if score <= 0:
            continue
        out.append(
            {
                "column": name,
                "score": round(score, 3),
                "levels": len(counts),
                "smallest": int(counts.min()),
                "median": float(np.median(counts)),
                "largest": int(counts.max()),
                "reason": reason,
            }
        )
    return sorted(out, key=lambda g: -g["score"])


def _score(entry: dict[str, Any], counts: NDArray[np.intp], n: int) -> tuple[float, str]:
    """How likely a column names groups of rows, 0 to 1, and why."""
    levels = len(counts)
    if levels < 2 or levels >= n or levels > 0.7 * n:
        return 0.0, ""
    if entry["kind"] == "number" and not entry["whole"]:
        return 0.0, ""
    median = float(np.median(counts))
    repeats = min(median / 5.0, 1.0)
    many = min(levels / 10.0, 1.0) if levels >= FEW_LEVELS else levels / 25.0
    score = 0.6 * repeats * many + 0.1
    reasons = [f"{levels:,} labels", f"each on {_times(counts)} rows"]
    if entry["kind"] == "category":
        score += 0.2
        reasons.append("text")
    else:
        span = entry["max"] - entry["min"] + 1
        dense = levels / span
        score += 0.2 if dense > 0.8 and entry["min"] in (0, 1) else -0.25 if dense < 0.5 else 0.0
        reasons.append("whole numbers that run on without gaps" if dense > 0.8 else "whole numbers")
    even = float(counts.std() / counts.mean())
    if even < 0.25 and median >= 2:
        score += 0.1
        reasons.append("about as many rows each")
    if levels < FEW_LEVELS:
        reasons.append("few labels: rather a term than a unit")
    if entry["missing"]:
        score -= 0.1
    return float(np.clip(score, 0.01, 1.0)), ", ".join(reasons)


def _times(counts: NDArray[np.intp]) -> str:
    low, high = int(counts.min()), int(counts.max())
    return f"{low:,}" if low == high else f"{low:,} to {high:,}"


def _sentences(
    columns: list[dict[str, Any]],
    groupings: list[dict[str, Any]],
    nesting: list[dict[str, Any]],
    labels: dict[str, Labels],
) -> list[str]:
    """Up to four sentences to start from, from the empty model up."""
    units = [g["column"] for g in groupings]
    outcomes = [c for c in columns if c["kind"] == "number" and not c["whole"] and c["column"] not in units]
    outcomes = outcomes or [c for c in columns if c["kind"] == "number" and c["column"] not in units]
    if not outcomes or not units:
        return []
    outcome = max(outcomes, key=lambda c: (c["missing"], c["distinct"]))["column"]
    likely = [g["column"] for g in groupings if g["score"] >= LIKELY]
    unit = next((u for u in likely if not is_time(u)), units[0])
    for _ in nesting:
        unit = next((columns_of_unit(n["parent"])[-1] for n in nesting
                     if n["relation"] == "labels repeat" and n["unit"] == unit), unit)  # fmt: skip
    counters = {n["unit"] for n in nesting if n["relation"] == "labels repeat"}
    inside = [c for c in columns if c["kind"] == "number" and c["column"] != outcome and c["column"] not in {*likely, *counters}
              and c["levels_within"].get(unit) == "varies"]  # fmt: skip
    sentences = [f"{column_text(outcome)} = intercept; each {column_text(unit)}: intercept"]
    if len(family := _nested_with(unit, nesting, labels)) > 1:
        sentences.append("; ".join([f"{column_text(outcome)} = intercept", *(f"each {u}: intercept" for u in family)]))
    if inside:
        x = column_text(inside[0]["column"])
        sentences.append(f"{column_text(outcome)} = {x}; each {column_text(unit)}: intercept")
        sentences.append(f"{column_text(outcome)} = {x}; each {column_text(unit)}: intercept + {x}")
    return sentences


def _standard_errors(columns: list[dict[str, Any]]) -> list[str]:
    """Columns that are named like standard errors and hold positive numbers."""
    numeric = [c for c in columns if c["kind"] == "number" and not c["whole"] and c.get("min", 0.0) > 0]
    return [c["column"] for c in numeric if STANDARD_ERROR.search(c["column"])]


def _with_known_errors(document: dict[str, Any]) -> list[str]:
    """A sentence for rows that report their own standard errors, with a unit for each row where no column groups the rows."""
    columns = document["columns"]
    errors = _standard_errors(columns)
    outcomes = [o["column"] for o in document["outcomes"] if o["family"] == "gaussian"]
    likely = [g["column"] for g in document["groupings"] if g["score"] >= LIKELY]
    single = [c["column"] for c in columns if c["kind"] == "category" and c["distinct"] == document["rows"]]
    units = [u for u in (*likely[:1], *single[:1]) if u not in outcomes]
    if len(errors) != 1 or not outcomes or not units:
        return []
    best = max(outcomes, key=lambda name: next(c["missing"] for c in columns if c["column"] == name))
    stem = STANDARD_ERROR.sub("", errors[0]).strip("_. -").casefold()
    named = [o for o in outcomes if o.casefold() in (stem, "effect", "estimate", "y", "difference")]
    clauses = "; ".join(f"each {column_text(u)}: intercept" for u in dict.fromkeys(units))
    return [f"{column_text((named or [best])[0])} = intercept; {clauses}; spread = known({column_text(errors[0])})"]


def _nested_with(unit: str, nesting: list[dict[str, Any]], labels: dict[str, Labels]) -> list[str]:
    """A unit, those around it and those inside it as a sentence names them, the larger first; without units of hardly more than a row."""
    pairs = [(n, columns_of_unit(n["parent"])) for n in nesting if n["relation"] in INSIDE and not is_time(n["unit"])]
    family = {unit}
    for _ in pairs:
        family |= {n["unit"] for n, above in pairs if above[-1] in family} | {
            a[-1] for n, a in pairs if n["unit"] in family
        }
    repeats = {n["unit"]: [n["unit"], *above] for n, above in pairs if n["relation"] == "labels repeat"}
    found = {}
    for name in family:
        whole = repeats.get(name, [name])
        at = joint(whole, labels)
        if len(at.codes) >= 2 * len(at.raw):
            found[" in ".join(map(column_text, whole))] = len(at.raw)
    return sorted(found, key=lambda u: (found[u], u))


def _notes(document: dict[str, Any]) -> list[str]:
    notes = []
    for c in document["columns"]:
        for code in c["suspected_missing_codes"]:
            notes.append(
                f"{c['column']} holds {code:g}, far from its other values: if that means missing, add {missing_option(c['column'], code)}"
            )
        if c.get("odd_cells"):
            notes.append(f"{c['column']} is text, but most of its cells are numbers {c['odd_cells']}")
        if c["kind"] == ROW_NUMBER:
            notes.append(f"{c['column']} numbers the rows: it is no unit, no outcome and no predictor.")
        if c["kind"] == "empty":
            notes.append(f"{c['column']} is empty in every row.")
    notes += [
        f"{c} looks like the standard errors of an outcome that others have estimated: spread = known({column_text(c)}) takes them as they are."
        for c in _standard_errors(document["columns"])
    ]
    for entry in document["nesting"]:
        if entry["relation"] == "labels repeat":
            u, p = entry["unit"], entry["parent"]
            notes.append(
                f"The labels of {u} start again in every {p}: write 'each {' in '.join(map(column_text, [u, *columns_of_unit(p)]))}', "
                f"or different {u}s count as one."
            )
    for entry in document["duplicates"]:
        notes.append(
            f"{entry['unit']} and {entry['time']} occur together more than once in {entry['count']:,} case{'s' * (entry['count'] > 1)} (for example "
            f"{entry['example']}): a slip, or a unit finer than {entry['unit']}?"
        )
    notes += [*_size_notes(document), *_gap_notes(document)]
    if not document["groupings"]:
        notes.append("No column seems to group the rows: every label stands on one row, or there are no labels.")
    return notes


def _gap_notes(document: dict[str, Any]) -> list[str]:
    """What becomes of rows that lack a predictor."""
    outcomes = _outcomes_of_sentences(document)
    gaps = [
        c["column"]
        for c in document["columns"]
        if c["missing"] and c["kind"] != "empty" and c["column"] not in outcomes
    ]
    if not gaps or not outcomes:
        return []
    return [
        f"{', '.join(shown(gaps, 3))} {'has' if len(gaps) == 1 else 'have'} gaps: a fit leaves out rows that lack one of its predictors; fit ... --impute "
        "20 keeps them, by draws of what is missing."
    ]


def _size_notes(document: dict[str, Any]) -> list[str]:
    """Plain warnings for units with few levels or few rows each."""
    notes = []
    repeats = {n["unit"] for n in document["nesting"] if n["relation"] == "labels repeat"}
    for g in document["groupings"]:
        if g["score"] < LIKELY or is_time(g["column"]) or g["column"] in repeats:
            continue
        if g["levels"] < 10:
            notes.append(
                f"{g['column']} has {g['levels']} levels only: a variance between so few is very uncertain; "
                "it may serve better as a fixed term."
            )
        if g["median"] < 3:
            notes.append(
                f"Most levels of {g['column']} have {g['median']:g} rows: enough for an intercept of their own, hardly for slopes."
            )
    return notes
