"""Columns of the fixed part that say what others say: which, and of what they are made."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.stages import CrossProducts
from bold_orchard.design.design import Design
from bold_orchard.errors import shown
from bold_orchard.results.parts import within

Array = NDArray[Any]
NEARLY = 1e-5  # of a column's length that is its own, below which coefficients lose more than five digits
NOTHING = 1e-9  # of a column's length
ROWS = 100_000  # taken together
MOST_SAID = 3  # columns of which another is made, in words


def alias_notes(design: Design, products: CrossProducts) -> list[str]:
    kept = set(products.standard.kept)
    lost = [n for i, n in enumerate(design.fixed.names) if i not in kept]
    flat = _without_inner_part(design, lost)
    near, lost = [*flat.values(), *_nearly_aliased(design, products)], [n for n in lost if n not in flat]
    if not lost:
        return near
    names = ", ".join(shown(lost))
    many = len(lost) > 1
    if not many and "*" not in lost[0] and (same := _combination(design, lost[0], kept)):
        return [f"{lost[0]} is {same} in the rows used, so it has no estimate; leave one of them out.", *near]
    return [
        f"{names} {'are' if many else 'is'} fully determined by the terms before {'them' if many else 'it'} in the rows used, "
        f"so {'they have' if many else 'it has'} no estimate; leave {'them' if many else 'it'} out, or look for empty "
        "combinations of categories.",
        *near,
    ]


def _combination(design: Design, name: str, kept: set[int]) -> str:
    """What a column is of at most MOST_SAID estimated ones, in words; nothing where it is no plain sum of so few."""
    order = sorted(kept)
    columns, own = [design.fixed.values[i] for i in order], design.fixed.values[design.fixed.names.index(name)]
    size, own_size = np.array([np.abs(c).max() or 1.0 for c in columns]), float(np.abs(own).max()) or 1.0
    triangle: Array = np.zeros((0, len(order) + 1))
    for at in range(0, len(own), ROWS):  # a run of rows at a time: what is solved has the precision of all
        rows = [*(c[at : at + ROWS] / s for c, s in zip(columns, size)), own[at : at + ROWS] / own_size]
        triangle = np.asarray(np.linalg.qr(np.vstack([triangle, np.column_stack(rows)]), mode="r"))
    chosen, weights = _fewest(triangle)
    if not 0 < len(chosen) <= MOST_SAID:
        return ""
    parts = [(w * own_size / size[k], order[k]) for k, w in zip(chosen, weights)]
    words = [_times(weight, design.fixed.names[i]) for weight, i in sorted(parts, key=lambda p: p[0] < 0)]
    return " ".join(words).removeprefix("+ ")


def _fewest(triangle: Array) -> tuple[list[int], Array]:
    """Columns (and their weights) of which the last one is made, the smallest left out while the rest still makes it.

    None where all together do not.
    """
    chosen = list(range(triangle.shape[1] - 1))
    kept: tuple[list[int], Array] = ([], np.zeros(0))
    while chosen:
        weights = np.linalg.lstsq(triangle[:, chosen], triangle[:, -1], rcond=None)[0]
        off = np.linalg.norm(triangle[:, chosen] @ weights - triangle[:, -1]) / np.linalg.norm(triangle[:, -1])
        if off > NOTHING:
            break
        kept = list(chosen), weights
        chosen.pop(int(np.argmin(np.abs(weights))))
    return kept


def _times(weight: float, name: str) -> str:
    sign, size = "-" if weight < 0 else "+", f"{abs(weight):.6g}"
    if name == "intercept":
        return f"{sign} {size}"
    return f"{sign} {name}" if size == "1" else f"{sign} {size} {name}"


def _without_inner_part(design: Design, lost: list[str]) -> dict[str, str]:
    """By name, a note on what was centred in its units and does not change in any."""
    out = {}
    for name, values in zip(design.fixed.names, design.fixed.values):
        part = within(name) if name in lost and not values.any() else None
        if part is not None:
            out[name] = (
                f"{name} is zero in every row: {part[0]} is the same in all rows of one {part[1]}, so it has no part within, and no "
                f"estimate; write {part[0]} in the place of its parts."
            )
    return out


def _nearly_aliased(design: Design, products: CrossProducts) -> list[str]:
    """Columns of which hardly anything is their own: the diagonal of the triangular factor against its column."""
    r = products.standard.to_work[1:, 1:] if design.fixed.intercept else products.standard.to_work
    if not len(r):
        return []
    own = np.abs(np.diag(r)) / np.maximum(np.linalg.norm(r, axis=0), 1e-300)
    kept = products.standard.kept[len(products.standard.kept) - len(r) :]
    names = [design.fixed.names[k] for k, share in zip(kept, own) if share < NEARLY]
    if not names:
        return []
    return [
        f"{', '.join(shown(names))} all but {'repeat' if len(names) > 1 else 'repeats'} the terms before (a part in {1.0 / own.min():.0e} is "
        "its own): the coefficients of such terms are huge, against each other, and told to fewer digits. Leave one out."
    ]
