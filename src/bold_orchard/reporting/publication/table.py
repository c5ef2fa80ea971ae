"""The publication table: fits side by side, as texts."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from bold_orchard.errors import UsageError, unknown_name
from bold_orchard.reporting.numbers import degrees, figure, fixed, p_value, rounding
from bold_orchard.reporting.publication.labels import Labels
from bold_orchard.reporting.publication.predictors import has_outcomes, lines_of, outcomes_of
from bold_orchard.results.components import ComponentsResult
from bold_orchard.results.fit import FitResult
from bold_orchard.results.table import TableResult, TableRow

SCHEMA = "bold-orchard/table/1"
PARTS = ("estimate", "se", "interval", "p", "df", "ratio")
EFFECTS, VARIATION, FIGURES = "average effects", "variation", "fit"
FEWEST, MOST = 1, 10  # fits that stand side by side on a page
NOTHING = ""
CLUSTERED = "cluster-robust errors (CR2) and their own degrees of freedom"
DF = {
    "satterthwaite": "Satterthwaite's degrees of freedom", "kenward-roger": "Kenward and Roger's degrees of freedom",
    "residual": "residual degrees of freedom", "normal": "the normal distribution",
    "barnard-rubin": "Rubin's rules and Barnard and Rubin's degrees of freedom",
}  # fmt: skip
Entry = tuple[FitResult, ComponentsResult]


@dataclass(frozen=True)
class TableOptions:
    """``cells`` is a pattern of ``PARTS``; ``labels`` replace names; ``drop`` and ``order`` choose the rows of average effects."""

    cells: str = "estimate (se)"
    headings: tuple[str, ...] = ()
    labels: dict[str, str] = field(default_factory=dict)
    caption: str = ""
    drop: tuple[str, ...] = ()
    order: tuple[str, ...] = ()
    digits: int = 4


def publication_table(fits: Sequence[Entry], options: TableOptions) -> TableResult:
    """One column a fit; blocks for average effects, variation and fit.

    Raises UsageError for a pattern without a part, headings that are not one a fit, and terms that are not there; OrchardError
    for a label that names nothing.
    """
    if not FEWEST <= len(fits) <= MOST:
        raise UsageError(f"a table holds {FEWEST} to {MOST} fits, not {len(fits)}")
    headings = list(options.headings) or [f.name for f, _ in fits]
    if len(headings) != len(fits):
        raise UsageError(
            f"--headings has {len(headings)} names for {len(fits)} fits; give one for each, separated by commas"
        )
    pattern = options.cells.replace("\\n", "\n")
    used = [p for p in PARTS if re.search(rf"\b{p}\b", pattern)]
    if not used:
        raise UsageError(
            f"--cells is a pattern of {', '.join(PARTS)}, not '{options.cells}'; for example: \"estimate (se)\""
        )
    labels = Labels(options.labels)
    rows = [
        *_effects(fits, pattern, used, labels, options),
        *_variation(fits, labels, options.digits),
        *_figures(fits, labels, options.digits),
    ]
    labels.check(_names(fits))
    bad = [f.name for f, _ in fits if not f.converged]
    notes = (
        [
            f"{' and '.join(bad)} did NOT converge: what stands in {'their columns' if len(bad) > 1 else 'its column'} is no estimate."
        ]
        if bad
        else []
    )
    return TableResult.from_dict({
        "schema": SCHEMA, "columns": headings, "rows": [r.to_dict() for r in rows],
        "footnotes": _footnotes(fits, headings, pattern, used, labels), "caption": options.caption, "notes": notes,
    })  # fmt: skip


def _names(fits: Sequence[Entry]) -> list[str]:
    names = [
        w for f, _ in fits for r in f.coefficient_rows for w in (r["term"], *re.findall(r"[A-Za-z_][\w ]*", r["term"]))
    ]
    return [*names, *(g["group"] for f, _ in fits for g in f["groups"])]


def _effects(
    fits: Sequence[Entry], pattern: str, used: list[str], labels: Labels, options: TableOptions
) -> list[TableRow]:
    """Rows of each linear predictor under its own name."""
    outcomes = outcomes_of([f for f, _ in fits])
    columns = [{(x.predictor, x.term): x for x in lines_of(f, outcomes)} for f, _ in fits]
    printed: dict[tuple[str, str], str] = {}
    for own in columns:
        for key, line in own.items():
            printed.setdefault(key, line.label)
    places = list(dict.fromkeys(predictor for predictor, _ in printed))
    chosen = sorted(_chosen(printed, options), key=lambda key: places.index(key[0]))
    return [
        TableRow(f"{EFFECTS}: {key[0]}" if key[0] else EFFECTS, _label(key, printed[key], labels), [
            _cell(own[key].row, f, pattern, used, options.digits) if key in own else NOTHING
            for own, (f, _) in zip(columns, fits)
        ])
        for key in chosen
    ]  # fmt: skip


def _label(key: tuple[str, str], printed: str, labels: Labels) -> str:
    """The label given to a term of one predictor, to a term in all, or to what is in it."""
    whole = f"{key[0]}: {key[1]}"
    return labels.of(whole) if key[0] and whole in labels.given else labels.of(key[1], printed)


def _chosen(printed: dict[tuple[str, str], str], options: TableOptions) -> list[tuple[str, str]]:
    """Terms in the order asked for, the others after them; those dropped left out. A term without its predictor is
    meant in all of them."""
    meant: dict[str, list[tuple[str, str]]] = {}
    for key, label in printed.items():
        mark = f"{key[0]}: " if key[0] else ""
        for name in dict.fromkeys((key[1], label, mark + key[1], mark + label)):
            meant.setdefault(name, []).append(key)
    named: list[list[tuple[str, str]]] = []
    for option, names in (("--drop", options.drop), ("--order", options.order)):
        for name in names:
            if name not in meant:
                raise UsageError(unknown_name("term", name, list(meant), "these fits") + f" (in {option})")
        named.append([key for n in names for key in meant[n]])
    dropped, first = named
    return [key for key in dict.fromkeys([*first, *printed]) if key not in dropped]


def _cell(row: dict[str, Any], fit: FitResult, pattern: str, used: list[str], digits: int) -> str:
    """The pattern filled; a ratio where the link has one and the column has a slope, else the estimate."""
    if row["estimate"] is None:
        return "—"
    ratio = "ratio" in used and fit.ratio_name is not None and row["term"] not in {r.term for r in fit.thresholds}
    back: Callable[[float], float] = _exp if ratio else float
    ends, se, shown = row["ci"], row["se"], back(row["estimate"])
    own = rounding(se, digits)
    other = rounding(se * shown if ratio and se else se, digits)
    interval = "—" if ends is None else " to ".join("—" if e is None else other(back(e)) for e in ends)
    made = {
        "estimate": own(row["estimate"]), "se": own(se), "interval": interval, "p": p_value(row["p"]),
        "df": degrees(row["df"]) if row["df"] is not None else "∞", "ratio": other(shown),
    }  # fmt: skip
    return re.sub(r"\b(" + "|".join(PARTS) + r")\b", lambda m: made[m[1]], pattern)


def _exp(x: float) -> float:
    import math

    return math.exp(min(x, 700.0))


def _variation(fits: Sequence[Entry], labels: Labels, digits: int) -> list[TableRow]:
    """SDs with their intervals, correlations, and what else the residual or the family has."""
    order: dict[tuple[str, ...], str] = {}
    columns = []
    outcomes = outcomes_of([f for f, _ in fits])
    for f, parts in fits:
        own: dict[tuple[str, ...], str] = {}
        for c in _of_outcome(f, parts["components"], outcomes):
            key, label, text = _component(c, labels, digits)
            again = sum(k[:4] == key for k in own)  # a clause of the same unit with the same term
            key, label = (*key, str(again)), f"{label}, {again + 1}" if again else label
            order.setdefault(key, label)
            own[key] = text
        columns.append(own)
    keys = sorted(order, key=lambda k: k[0] == "residual")
    return [TableRow(VARIATION, order[k], [own.get(k, NOTHING) for own in columns]) for k in keys]


def _of_outcome(f: FitResult, rows: Sequence[dict[str, Any]], outcomes: set[str]) -> list[dict[str, Any]]:
    """Components as fits of several outcomes have them: of each outcome one residual, and of all none."""
    if has_outcomes(f):
        return [c for c in rows if c["kind"] != "residual"]
    name = f["outcome"]
    if name not in outcomes:
        return list(rows)
    out = []
    for c in rows:
        if c["kind"] == "residual":
            out.append(c | {"kind": "variance", "term": name})
        elif c["kind"] in ("variance", "covariance"):
            out.append(c | {"term": f"{name}: {c['term']}", "term2": c["term2"] and f"{name}: {c['term2']}"})
        else:
            out.append(c)
    return out


def _component(c: dict[str, Any], labels: Labels, digits: int) -> tuple[tuple[str, ...], str, str]:
    group, term = labels.of(c["group"]), c["term"]
    key = (c["group"], c["kind"], term, c["term2"] or "")
    if c["kind"] == "covariance":
        names = f"{labels.of(term)}, {labels.of(c['term2'])}"
        return key, f"correlation of {names} ({group})", fixed(c["correlation"], 2)
    if c["kind"] == "variance":
        ends = c["ci"]
        return key, f"SD of {labels.of(term)} ({group})", _with_ends(c["sd"], ends, digits, square=True)
    if c["kind"] == "residual":
        return key, "SD of the residual", _with_ends(c["sd"], c["ci"], digits, square=True)
    return key, labels.of(term.replace("_", " ")), _with_ends(c["estimate"], c["ci"], digits, square=False)


def _with_ends(value: float | None, ends: list[float | None] | None, digits: int, square: bool) -> str:
    if ends is None or None in ends:
        return figure(value, digits)
    low, high = (max(e, 0.0) ** 0.5 if square else e for e in ends if e is not None)
    text = rounding((high - low) / 4, digits)
    return f"{text(value)} [{text(low)}, {text(high)}]"


def _figures(fits: Sequence[Entry], labels: Labels, digits: int) -> list[TableRow]:
    lines: dict[str, list[str]] = {}

    def put(label: str, at: int, text: str) -> None:
        lines.setdefault(label, [NOTHING] * len(fits))[at] = text

    for i, (f, _) in enumerate(fits):
        put("rows", i, f"{f['rows']['used']:,}")
    for i, (f, _) in enumerate(fits):
        for g in f["groups"]:
            put(f"levels of {labels.of(g['group'])}", i, f"{g['levels']:,}")
    outcomes = outcomes_of([f for f, _ in fits])
    for i, (f, parts) in enumerate(fits):
        for c in parts["icc"]:
            outcome = c.get("outcome") or (f["outcome"] if f["outcome"] in outcomes else None)
            of = f" of {labels.of(outcome)}" if outcome else ""
            put(f"ICC{of} ({labels.of(c['group'])})", i, fixed(c["value"], 3))
    for i, (f, parts) in enumerate(fits):
        put("R² marginal", i, fixed(parts["r2"]["marginal"], 3))
        put("R² conditional", i, fixed(parts["r2"]["conditional"], 3))
        figures = f["fit"]
        for label, key in (("log-likelihood", "loglik"), ("AIC", "aic"), ("BIC", "bic")):
            put(label, i, fixed(figures[key], 2))
        put("parameters", i, str(figures["n_parameters"]))
    return [TableRow(FIGURES, label, cells) for label, cells in lines.items()]


def _footnotes(fits: Sequence[Entry], headings: list[str], pattern: str, used: list[str], labels: Labels) -> list[str]:
    """What the cells are, how the fits were made, and what the intercept stands at."""
    out = [
        f"Cells of average effects: {' '.join(pattern.split())}, all to the decimals of the standard error."
        if used != ["estimate"]
        else "Cells are estimates."
    ]
    level = f"{100 * fits[0][0]['confidence']:g}%"
    if "interval" in used:
        out.append(f"Intervals of average effects are {level} intervals.")
    if "ratio" in used:
        out += _grouped(headings, [_ratio(f) for f, _ in fits])
    out += _grouped(headings, [_method(f) for f, _ in fits])
    out.append(f"In brackets after SDs: {level} intervals, symmetric on the log scale of the variance.")
    out += _grouped(headings, [_at(f, labels) for f, _ in fits])
    return [n for n in out if n]


def _grouped(headings: list[str], texts: list[str]) -> list[str]:
    """One sentence for all, or a sentence for the columns that it is true of."""
    if len(set(texts)) == 1:
        return [texts[0][:1].upper() + texts[0][1:]] if texts[0] else []
    return [
        f"{', '.join(h for h, t in zip(headings, texts) if t == text)}: {text}" for text in dict.fromkeys(texts) if text
    ]


def _ratio(f: FitResult) -> str:
    kind = f.ratio_name
    return (
        f"the ratio is exp(estimate), the {kind}."
        if kind
        else "the link has no ratio, so the estimate itself stands there."
    )


def _method(f: FitResult) -> str:
    how = {"REML": "restricted maximum likelihood", "ML": "maximum likelihood"}.get(
        f["method"], f"maximum likelihood ({f['method']})"
    )
    family = (
        "" if f["family"] == "gaussian" and f["link"] == "identity" else f"{f['family']} model ({f['link']} link), "
    )
    pooled = f.get("imputation")
    restricted = "; its log-likelihood, AIC and BIC are restricted ones" if f["method"] == "REML" and not pooled else ""
    if pooled and pooled["columns"]:
        columns = " and ".join(c["column"] for c in pooled["columns"])
        how = f"gaps of {columns} drawn {pooled['draws']} times, each completed table fitted by {how[0].lower()}{how[1:]} and the fits pooled"
    return f"{family}{how}; tests and intervals by {DF.get(f['df_method'], CLUSTERED)}{restricted}."


def _at(f: FitResult, labels: Labels) -> str:
    if not f["intercept_at"]:
        return ""
    return f"the intercept stands at {'; '.join(labels.of(a) for a in f['intercept_at'])}."
