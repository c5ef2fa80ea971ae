"""How candidate units stand to one another and to time: nested, crossed, labels that repeat, rows that occur twice."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from typing import Any

import numpy as np
import scipy
from numpy.typing import NDArray

from bold_orchard.data.table import Labels

FEWEST = 3  # labels of a counter whose restart a measurement alone may tell; a pair is rather a treatment
MEASURED = 20  # distinct values from which numbers are measurements rather than codes
CERTAIN, UNTOLD = 1e-6, 0.01  # p-values of pairs that differ for sure, and of plain labels that tell nothing
TIMES = ("season", "year", "month", "week", "day", "date", "time", "visit", "occasion", "hour", "wave", "round")


def constant_or_varies(labels: Labels | None, unit: Labels) -> str:
    """'constant' when the column takes one value in every level of the unit, missing cells aside."""
    if labels is None:
        return "constant"
    keep = (labels.codes >= 0) & (unit.codes >= 0)
    codes, groups = labels.codes[keep], unit.codes[keep]
    first = np.full(len(unit.raw), -1)
    first[groups[::-1]] = codes[::-1]
    return "constant" if np.array_equal(first[groups], codes) else "varies"


def joint(columns: Sequence[str], labels: dict[str, Labels]) -> Labels:
    """The levels of a unit written ``tree in plot in orchard``: one for each combination that occurs."""
    keys = np.column_stack([labels[c].codes for c in columns])
    have = (keys >= 0).all(axis=1)
    distinct, codes = np.unique(keys[have], axis=0, return_inverse=True)
    out = np.full(len(keys), -1, dtype=np.intp)
    out[have] = codes.ravel()
    texts = [" in ".join(labels[c].texts[k] for c, k in zip(columns, row)) for row in distinct]
    return Labels(out, np.array(texts, dtype=object))


def columns_of_unit(name: str) -> list[str]:
    """The columns of a unit as it is typed, the finest first: tree in orchard, [fruit tree] in orchard."""
    parts = [c.strip() for c in name.split(" in ")]
    return [c[1:-1] if c.startswith("[") and c.endswith("]") else c for c in parts]


def nesting_of(
    chosen: list[str], labels: dict[str, Labels], groupings: list[dict[str, Any]], counters: Sequence[str] = ()
) -> list[dict[str, Any]]:
    """For each pair of units: nested, crossed, or labels that start again under every parent, itself within another or not.

    ``counters`` are less likely units, of which only labels that start again are told.
    """
    likely = {g["column"] for g in groupings}
    chosen = [c for c in chosen if c in likely]
    out: list[dict[str, str]] = []
    for unit in chosen:
        for parent in chosen:
            if unit == parent or len(labels[unit].raw) < 2:
                continue
            relation = _relation(labels[unit], labels[parent])
            if relation == "nested" or (relation and (parent, unit) not in {(o["unit"], o["parent"]) for o in out}):
                out.append({"unit": unit, "parent": parent, "relation": relation})
    for entry in list(out):
        if entry["relation"] == "crossed":
            found = which_repeats(entry["unit"], entry["parent"], labels)
            if found:
                entry |= found
    above = [*chosen, *counters]
    for unit in counters:
        repeats = (which_repeats(unit, parent, labels) for parent in above)
        out += [found for found in repeats if found and found["unit"] == unit][:1]
    everything = [*chosen, *counters]
    return _deeper([*out, *_two_deep(out, everything, labels)], everything, labels)


def _apart(entry: dict[str, str], parents: dict[str, str]) -> bool:
    """Whether a relation of two units is not that of a counter with one of the units it starts again in."""
    for unit, above in parents.items():
        inside = {unit, *columns_of_unit(above)}
        if {entry["unit"], entry["parent"]} <= inside:
            return False
    return True


def _two_deep(out: list[dict[str, str]], chosen: list[str], labels: dict[str, Labels]) -> list[dict[str, str]]:
    """Two counters that start again together: trees 1, 2, ... in plots 1, 2, ... of every orchard.

    Sign: some column is the same inside every (tree, plot, orchard) and inside no two of them.
    """
    known = {e["unit"] for e in out if e["relation"] == "labels repeat"}
    counters = [c for c in chosen if c not in known and _counts(c, labels[c])]
    for top in (c for c in chosen if c not in counters and not is_time(c)):
        for one, two in itertools.combinations(counters, 2):
            fine, middle = sorted((one, two), key=lambda c: -len(labels[c].raw))
            whole = joint([fine, middle, top], labels)
            pairs = [joint(list(p), labels) for p in itertools.combinations((fine, middle, top), 2)]
            full = len(labels[fine].raw) * len(labels[middle].raw) * len(labels[top].raw)
            if len(whole.raw) <= 0.3 * full or (whole.codes >= 0).sum() < 2 * len(whole.raw):
                continue
            others = (v for k, v in labels.items() if k not in (fine, middle, top) and len(v.raw) > 1)
            if any(
                constant_or_varies(v, whole) == "constant" and all(constant_or_varies(v, p) == "varies" for p in pairs)
                for v in others
            ):
                return [
                    {"unit": middle, "parent": top, "relation": "labels repeat"},
                    {"unit": fine, "parent": f"{middle} in {top}", "relation": "labels repeat"},
                ]
    return []


def _numbered(labels: Labels) -> bool:
    """Whether the labels are whole numbers, which rather start again than names do."""
    return all(t.isdigit() for t in labels.texts)


def _counts(name: str, labels: Labels) -> bool:
    """Whether labels are 1, 2, 3, ... or a, b, c, ... and not those of a time."""
    return all(t.isdigit() or (len(t) == 1 and t.isalpha()) for t in labels.texts) and not is_time(name)


def _deeper(out: list[dict[str, str]], chosen: list[str], labels: dict[str, Labels]) -> list[dict[str, str]]:
    """Labels that start again in a unit whose own labels start again: tree in plot in orchard."""
    for _ in range(len(chosen)):
        parents = {e["unit"]: e["parent"] for e in out if e["relation"] == "labels repeat"}
        out[:] = [e for e in out if e["relation"] == "labels repeat" or not {e["unit"], e["parent"]} & set(parents)
                  or _apart(e, parents)]  # fmt: skip
        for unit in chosen:
            for middle, top in list(parents.items()):
                if unit in (middle, *columns_of_unit(top)) or unit in parents:
                    continue
                name = f"{middle} in {top}"
                whole = joint([middle, *columns_of_unit(top)], labels)
                found = which_repeats(unit, name, {k: v for k, v in labels.items() if k != middle} | {name: whole})
                if found and found["unit"] == unit:
                    out[:] = [e for e in out if {e["unit"], e["parent"]} not in ({unit, middle}, {unit, top})]
                    out.append(found)
                    parents[unit] = name
    return out


def _relation(unit: Labels, parent: Labels) -> str:
    keep = (unit.codes >= 0) & (parent.codes >= 0)
    a, b = unit.codes[keep], parent.codes[keep]
    above = np.zeros(len(unit.raw), dtype=np.intp)
    above[a] = b
    if np.array_equal(above[a], b):
        return "nested"
    below = np.zeros(len(parent.raw), dtype=np.intp)
    below[b] = a
    return "" if np.array_equal(below[b], a) else "crossed"


def which_repeats(one: str, two: str, labels: dict[str, Labels]) -> dict[str, str] | None:
    """Crossed columns of which one looks like a counter that starts again in every level of the other.

    Sign: (unit, parent) together form groups of several rows over which something the plain label does not fix
    stays put, or that differ in a measurement of which the plain label tells nothing; and the labels run 1, 2, 3... in each parent.
    """
    for unit, parent in sorted(((one, two), (two, one)), key=lambda pair: not _numbered(labels[pair[0]])):
        u, p = labels[unit], labels[parent]
        if not _counts(unit, u):
            continue
        keep = (u.codes >= 0) & (p.codes >= 0)
        pairs = np.unique(p.codes[keep] * len(u.raw) + u.codes[keep])
        rows_per_pair = keep.sum() / len(pairs)
        per_parent = np.bincount(pairs // len(u.raw))
        starts_again = len(pairs) > 0.3 * len(u.raw) * len(p.raw)
        if (
            rows_per_pair >= 2
            and starts_again
            and per_parent.min() >= 2
            and (_fixed_by_pair(unit, parent, labels) or _told_by_outcome(unit, parent, labels))
        ):
            return {"unit": unit, "parent": parent, "relation": "labels repeat"}
    return None


def _told_by_outcome(unit: str, parent: str, labels: dict[str, Labels]) -> bool:
    """Whether some measured column differs between the pairs of one parent, as between levels, but not between plain labels."""
    u, p = labels[unit], labels[parent]
    if not _numbered(u) or len(u.raw) < FEWEST:
        return False
    for name, other in labels.items():
        if name in (unit, parent) or other.raw.dtype.kind != "f" or len(other.raw) < MEASURED:
            continue
        keep = (u.codes >= 0) & (p.codes >= 0) & (other.codes >= 0)
        y, a, b = other.raw[other.codes[keep]].astype(float), u.codes[keep], p.codes[keep]
        pair = np.unique(b * len(u.raw) + a, return_inverse=True)[1].ravel()
        total, of_pair, of_parent, of_unit = (_between(y, c) for c in (np.arange(len(y)), pair, b, a))
        df, rest = int(pair.max()) - int(b.max()), len(y) - int(pair.max()) - 1
        if df < 1 or rest < 1 or total <= of_pair:
            continue
        few = int(a.max())
        if not few or df <= few:
            continue
        within = (total - of_pair) / rest
        beside = max(of_pair - of_parent - of_unit, 0.0) / (df - few)  # pairs beyond what their two labels say
        apart = scipy.special.fdtrc(df - few, rest, beside / within)
        plain = scipy.special.fdtrc(few, df - few, of_unit / few / beside) if beside > 0 else 0.0
        if apart < CERTAIN and plain > UNTOLD:
            return True
    return False


def _between(y: NDArray[Any], codes: NDArray[Any]) -> float:
    """Sum of squares between the groups."""
    counts = np.bincount(codes)
    means = np.bincount(codes, y - y.mean()) / np.maximum(counts, 1)
    return float(counts @ means**2)


def is_time(name: str) -> bool:
    """A column named like a time: its labels mean the same under every parent."""
    return any(word in name.casefold() for word in TIMES)


def _fixed_by_pair(unit: str, parent: str, labels: dict[str, Labels]) -> bool:
    """Whether some other column is constant inside (unit, parent) but not inside unit or parent alone.

    Without such a column a counter with several rows in every parent still counts as repeating when no
    finer column tells its rows apart by a second crossing.
    """
    u, p = labels[unit], labels[parent]
    joint = Labels(
        np.where((u.codes >= 0) & (p.codes >= 0), p.codes * len(u.raw) + u.codes, -1),
        np.arange(len(u.raw) * len(p.raw)),
    )
    for name, other in labels.items():
        if name in (unit, parent) or len(other.raw) < 2:
            continue
        if constant_or_varies(other, joint) == "constant" and "constant" not in (
            constant_or_varies(other, u),
            constant_or_varies(other, p),
        ):
            return True
    return False


def duplicates_of(nesting: list[dict[str, str]], units: list[str], labels: dict[str, Labels]) -> list[dict[str, Any]]:
    """Rows that share unit and time where nearly all are alone: likely slips, or a finer unit that was forgotten."""
    times = [c for c in labels if is_time(c)]
    parents = {n["unit"]: n["parent"] for n in nesting if n["relation"] == "labels repeat"}
    out: list[dict[str, Any]] = []
    for unit in units:
        if is_time(unit):
            continue
        names = [unit, *columns_of_unit(parents[unit])] if unit in parents else [unit]
        for time in times:
            keys = np.column_stack([labels[n].codes for n in [*names, time]])
            keys = keys[(keys >= 0).all(axis=1)]
            cells, counts = np.unique(keys, axis=0, return_counts=True)
            twice = counts > 1
            if len(cells) and 0 < twice.sum() <= 0.05 * len(cells):
                example = cells[twice][0]
                texts = [labels[n].texts[c] for n, c in zip([*names, time], example)]
                out.append({"unit": " in ".join(names), "time": time, "count": int(twice.sum()),
                            "example": f"{' in '.join(texts[:-1])}, {time} {texts[-1]}"})  # fmt: skip
    return out
