"""Columns of the fixed part that say what others say: which, and of what they are made."""

from __future__ import annotations

import numpy as np

from bold_orchard.crossproducts.stages import CrossProducts
from bold_orchard.design.design import Design
from bold_orchard.errors import shown
from bold_orchard.results.parts import within

NEARLY = 1e-5  # of a column's length that is its own, below which coefficients lose more than five digits
NOTHING = 1e-9  # of the largest value of a column
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
    columns = [design.fixed.values[i] for i in sorted(kept)]
    own = design.fixed.values[design.fixed.names.index(name)]
    size = [float(np.abs(c).max()) or 1.0 for c in (*columns, own)]
    scaled = np.column_stack([c / s for c, s in zip(columns, size)])
    weights, *_ = np.linalg.lstsq(scaled, own / size[-1], rcond=None)
    names = [design.fixed.names[i] for i in sorted(kept)]
    parts = [(w * size[-1] / s, n) for w, s, n in zip(weights, size, names) if abs(w) > NOTHING]
    off = float(np.abs(own / size[-1] - scaled @ np.where(np.abs(weights) > NOTHING, weights, 0.0)).max())
    if not 0 < len(parts) <= MOST_SAID or off > NOTHING:
        return ""
    said = []
    for weight, term in parts:
        size_of = "" if f"{abs(weight):.6g}" == "1" and term != "intercept" else f"{abs(weight):.6g}"
        said.append(
            f"{'-' if weight < 0 else '+'} {size_of} {'' if term == 'intercept' else term}".replace("  ", " ").strip()
        )
    return " ".join(said).removeprefix("+ ")


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
