"""One sentence fitted to many outcomes, or to the rows of each level of a column; a failed one never stops the others."""

from __future__ import annotations

import fnmatch
import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError, UsageError, unknown_name
from bold_orchard.inference.distributions import p_of_t
from bold_orchard.inference.fit import Fit, Settings, fit
from bold_orchard.inference.many_outcomes import Estimates, SharedDesign
from bold_orchard.inference.summary import number
from bold_orchard.progress import Progress
from bold_orchard.results.scan import ScanResult
from bold_orchard.sentence import tree
from bold_orchard.workers import all_of

Array = NDArray[Any]
SCHEMA = "bold-orchard/scan/1"
WORD = "outcome"  # stands for the outcome in the sentence
CORRECTIONS = ("bh", "holm", "none")
FEW, TRIED = (
    8,
    3,
)  # outcomes of the same rows from which they are fitted together, and of which one must be fitted first
KEPT_AT_ONCE = 500  # fits between two writings of the file that keeps them: a few seconds' work
Made = dict[str, Any]


@dataclass(frozen=True)
class Scan:
    """``names`` of the outcomes, or of the levels of the column ``by``; ``task`` makes the rows and components of one, ``together`` those of as many of
    some as share rows and a design for which that is quicker."""

    names: tuple[str, ...]
    task: Callable[[int], Made]
    together: Callable[[Sequence[int]], dict[int, Made]] = lambda some: {}


def over_outcomes(sentence: tree.Sentence, table: Table, patterns: Sequence[str], settings: Settings) -> Scan:
    """Each column that one of the patterns names, in the place of the word ``outcome``.

    Raises UsageError for a sentence without the word, and for a pattern that names no column.
    """
    if WORD not in [c.name for c in tree.columns_of(sentence.outcome)]:
        raise UsageError(
            f'the sentence of a scan has the word {WORD} for its outcome: "{WORD} = rain; each orchard: intercept"'
        )
    used = {
        c.name
        for c in tree.columns_of(
            (sentence.terms, sentence.clauses, sentence.within, sentence.spread, sentence.outcome.trials)
        )
    }
    names: list[str] = []
    for pattern in patterns:
        found = [pattern] if table.has(pattern) else fnmatch.filter(table.columns, pattern)
        if not found:
            raise UsageError(unknown_name("column", pattern, table.columns, table.name) + " (in --outcomes)")
        names += [n for n in found if n not in used and n not in names]
    if not names:
        raise UsageError("--outcomes names only columns that the sentence uses otherwise")
    table.data.fetch([*names, *(c for c in used if table.has(c))])
    others = set(names)
    beside = [c for c in table.columns if c not in others]

    def task(i: int) -> Made:
        return _made(names[i], _about(sentence, names[i]), table.only([*beside, names[i]]), settings)

    def together(some: Sequence[int]) -> dict[int, Made]:
        return _together(sentence, table, beside, {i: names[i] for i in some}, settings)

    return Scan(tuple(names), task, together)


def over_levels(sentence: tree.Sentence, table: Table, by: str, settings: Settings) -> Scan:
    """The rows of each level of a column. Raises UsageError for a column that is not there."""
    if not table.has(by):
        raise UsageError(unknown_name("column", by, table.columns, table.name) + " (in --by)")
    labels = table.labels(by)
    present = [i for i in labels.positions if (labels.codes == i).any()]

    def task(k: int) -> Made:
        rows = np.flatnonzero((labels.codes == present[k]) & ~table.is_missing(by))
        return _made(labels.texts[present[k]], sentence, table.take(rows), settings)

    return Scan(tuple(labels.texts[i] for i in present), task)


def _about(sentence: tree.Sentence, name: str) -> tree.Sentence:
    """The sentence with a column in the place of the word."""

    def put(item: Any) -> Any:
        if isinstance(item, tree.Column):
            return replace(item, name=name) if item.name == WORD else item
        if isinstance(item, tree.Call):
            return replace(item, arguments=tuple(put(a) for a in item.arguments))
        return item

    outcome = replace(sentence.outcome, value=put(sentence.outcome.value))
    made = replace(sentence, outcome=outcome)
    return replace(made, source=made.written)


def _made(name: str, sentence: tree.Sentence, table: Table, settings: Settings) -> Made:
    try:
        result = fit(sentence, table, settings, name).result
    except (OrchardError, ArithmeticError, np.linalg.LinAlgError) as e:
        blank = dict.fromkeys(("term", "estimate", "se", "df", "statistic", "p"))
        rows = [
            {
                "outcome": name,
                **blank,
                "converged": False,
                "boundary": False,
                "rows": None,
                "why": " ".join(str(e).split()),
            }
        ]
        return {"rows": rows, "components": []}
    c = result.convergence
    why = None if c.converged else next(iter(result.warnings), "the search did not converge")
    rows = [
        {"outcome": name, **{k: getattr(r, k) for k in ("term", "estimate", "se", "df", "statistic", "p")}, "converged": c.converged,
         "boundary": c.boundary, "rows": result.rows.used, "why": why}
        for r in result.fixed
    ]  # fmt: skip
    parts = [
        {"outcome": name, "group": p.group, "term": t, "sd": sd} for p in result.random for t, sd in zip(p.terms, p.sd)
    ]
    if result.residual is not None and isinstance(result.residual.sd, float):
        parts.append({"outcome": name, "group": "residual", "term": "residual", "sd": result.residual.sd})
    return {"rows": rows, "components": parts}


def _together(
    sentence: tree.Sentence, table: Table, beside: Sequence[str], names: dict[int, str], settings: Settings
) -> dict[int, Made]:  # fmt: skip
    """Outcomes that are columns of numbers and miss the same rows, by one look at the design; those left out are fitted by themselves."""
    plain = (
        isinstance(sentence.outcome.value, tree.Column) and not sentence.outcome.more and not sentence.outcome.limits
    )
    groups: dict[bytes, list[int]] = {}
    for i, name in names.items() if plain else ():
        if table.kind(name) == "number":
            groups.setdefault(np.packbits(table.is_missing(name)).tobytes(), []).append(i)
    made: dict[int, Made] = {}
    for group in (g for g in groups.values() if len(g) >= FEW):
        tried = (_template(sentence, table.only([*beside, names[i]]), names[i], settings) for i in group[:TRIED])
        template = next((f for f in tried if f is not None), None)
        shared = None if template is None else SharedDesign.of(template)
        if template is None or shared is None:
            continue
        rows = np.searchsorted(table.row_numbers, template.design.table.row_numbers)
        found = shared.estimates(np.stack([table.numbers(names[i])[rows] for i in group], axis=1))
        several = [len(np.unique(table.numbers(names[i])[rows][:1000])) > 2 for i in group]
        made |= {
            i: _of_estimates(names[i], template, found, k) for k, i in enumerate(group) if found.sure[k] and several[k]
        }
    return made


def _template(sentence: tree.Sentence, table: Table, name: str, settings: Settings) -> Fit | None:
    """The fit of one outcome, if it can be fitted."""
    try:
        return fit(_about(sentence, name), table, settings, name)
    except (OrchardError, ArithmeticError, np.linalg.LinAlgError):
        return None


def _of_estimates(name: str, template: Fit, found: Estimates, k: int) -> Made:
    """The rows and components of one outcome, as a fit by itself has them."""
    place = {column: at for at, column in enumerate(template.model.kept)}
    boundary, rows = bool(found.sd[k] == 0.0), []
    for column, row in enumerate(template.result.fixed):
        own: dict[str, Any] = dict.fromkeys(("estimate", "se", "df", "statistic", "p"))
        if column in place:
            at = place[column]
            b, se = float(found.b[k, at]), float(found.se[k, at])
            df = None if found.df is None else float(found.df[k, at])
            statistic = b / se if se > 0 else np.nan
            own = {
                "estimate": number(b),
                "se": number(se),
                "df": df,
                "statistic": number(statistic),
                "p": number(p_of_t(statistic, df)),
            }
        rows.append(
            {
                "outcome": name,
                "term": row.term,
                **own,
                "converged": True,
                "boundary": boundary,
                "rows": template.result.rows.used,
                "why": None,
            }
        )
    part = template.result.random[0]
    parts = [
        {"outcome": name, "group": part.group, "term": part.terms[0], "sd": float(found.sd[k])},
        {"outcome": name, "group": "residual", "term": "residual", "sd": float(found.residual[k])},
    ]
    return {"rows": rows, "components": parts}


def carried_out(scan: Scan, into: Path | None, stamp: str, report: Progress) -> list[Made]:
    """What every outcome gave; with ``into`` a file takes each as it is made, and those that it has already are not made again.

    Raises OrchardError for a file that holds another scan.
    """
    known = {} if into is None else _kept(into, stamp)
    left = [i for i, name in enumerate(scan.names) if name not in known]
    if into is not None and not into.exists():
        into.write_text(json.dumps({"scan": stamp}) + "\n", encoding="utf-8")
    for start in range(0, len(left), KEPT_AT_ONCE):
        some, done = left[start : start + KEPT_AT_ONCE], len(scan.names) - len(left) + start

        quick = scan.together(some)
        alone = [i for i in some if i not in quick]
        done += len(quick)
        report(done, len(scan.names))

        def one(k: int, alone: list[int] = alone) -> Made:
            return scan.task(alone[k])

        def so_far(n: int, _: int, done: int = done) -> None:
            report(done + n, len(scan.names))

        made = quick | dict(zip(alone, all_of(one, len(alone), so_far)))
        known |= {scan.names[i]: made[i] for i in some}
        if into is not None:
            with into.open("a", encoding="utf-8") as f:
                f.writelines(json.dumps({"outcome": scan.names[i], **made[i]}) + "\n" for i in some)
    return [known[name] for name in scan.names]


def _kept(into: Path, stamp: str) -> dict[str, Made]:
    if not into.exists():
        return {}
    text = into.read_text(encoding="utf-8")
    lines = text.split("\n")
    try:
        if json.loads(lines[0])["scan"] != stamp:
            raise OrchardError(
                f"{into} holds another scan (another sentence, data or option); name another file, or remove it"
            )
        read = [json.loads(line) for line in lines[1:-1]]
        if lines[-1]:  # the last was cut off by a stop
            with into.open("r+", encoding="utf-8") as f:
                f.truncate(len(text.encode()) - len(lines[-1].encode()))
        return {r["outcome"]: {"rows": r["rows"], "components": r["components"]} for r in read}
    except (ValueError, KeyError, TypeError):
        raise OrchardError(f"{into} is no file of a scan; name another one") from None


def document_of(
    made: Sequence[Made], model: str, correction: str, only: str | None, by: str | None, confidence: float
) -> ScanResult:
    """The document of ``orchard scan``, p-values adjusted over the outcomes term by term.

    Raises UsageError where no outcome has the term that alone is wanted.
    """
    rows = [dict(r) for m in made for r in m["rows"]]
    if only is not None:
        terms = list(dict.fromkeys(r["term"] for r in rows if r["term"] is not None))
        wanted = [t for t in terms if t == only or t.startswith(f"{only}[")]
        if not wanted:
            raise UsageError(unknown_name("term", only, terms, "the sentence") + " (in --only)")
        rows = [r for r in rows if r["term"] in wanted or r["term"] is None]
    for term in dict.fromkeys(r["term"] for r in rows if r["term"] is not None):
        own = [r for r in rows if r["term"] == term]
        sure = [r for r in own if r["converged"] and r["p"] is not None]
        for row in own:
            row["p_adjusted"] = None
        for row, p in zip(sure, adjusted(np.array([r["p"] for r in sure]), correction)):
            row["p_adjusted"] = number(p)
    failed = [r for r in rows if r["term"] is None]
    unsure = {r["outcome"] for r in rows if not r["converged"] and r["term"] is not None}
    notes = [f"{len(failed):,} of {len(made):,} could not be fitted; each says why."] if failed else []
    notes += (
        [f"{len(unsure):,} did not converge: their figures are not to be used, and have no adjusted p."]
        if unsure
        else []
    )
    document = {
        "schema": SCHEMA, "model": model, "by": by, "correction": correction, "confidence": confidence, "outcomes": len(made), "failed": len(failed),
        "rows": [{"p_adjusted": None} | r for r in rows], "components": [c for m in made for c in m["components"]], "notes": notes,
    }  # fmt: skip
    return ScanResult.from_dict(document)


def adjusted(p: Array, correction: str) -> Array:
    """By the false discovery rate (bh: Benjamini & Hochberg 1995), the chance of any error (holm: Holm 1979), or not at all."""
    n, order = len(p), np.argsort(p, kind="stable")
    out = np.empty(n)
    if correction == "bh":
        ranked = p[order] * n / np.arange(1, n + 1)
        out[order] = np.minimum(np.minimum.accumulate(ranked[::-1])[::-1], 1.0)
    elif correction == "holm":
        out[order] = np.minimum(np.maximum.accumulate(p[order] * np.arange(n, 0, -1)), 1.0)
    else:
        out = p
    return out
