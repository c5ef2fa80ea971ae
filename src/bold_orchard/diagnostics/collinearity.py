"""How much the columns of a term are told by those of the other terms: generalized variance inflation (Fox & Monette 1992)."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from bold_orchard.design.design import Design
from bold_orchard.design.subset import some_rows
from bold_orchard.diagnostics.findings import Finding
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.summary import number
from bold_orchard.sentence.tree import columns_of

LARGE = 10.0  # of vif^(1/df) from which a coefficient's error is mostly its neighbours'


def collinearity(fit: Fit) -> list[dict[str, Any]]:
    """Each term of the fixed part with its generalized VIF and its number of columns; nothing where there are fewer than two terms.

    From the correlations of the columns of X with an estimate; without an intercept from their products about zero.
    """
    design, kept = fit.design, list(fit.model.kept)
    if not design.stacked:
        return _of_rows(design, [k for k in kept if k != design.fixed.constant], design.fixed.intercept)
    out = []
    for place, name in enumerate(design.predictors):
        own = [k for k in kept if design.fixed.terms[design.fixed.owner[k]].outcome == name]
        rows = some_rows(design, np.arange(place, len(design.y), len(design.predictors)))
        flat = [k for k in own if not design.fixed.terms[design.fixed.owner[k]].alone.factors]
        out += _of_rows(rows, [k for k in own if k not in flat], bool(flat))
    return out


def _of_rows(design: Design, columns: list[int], centred: bool) -> list[dict[str, Any]]:
    """The same of some columns of X."""
    part = design.fixed
    terms = list(dict.fromkeys(str(part.terms[part.owner[k]]) for k in columns))
    if len(terms) < 2:
        return []
    roots = design.root_counts()
    x = np.array([(part.values[k] - (design.mean_of(part.values[k]) if centred else 0.0)) * roots for k in columns])
    sizes = np.sqrt((x**2).sum(axis=1))
    x = x[sizes > 0] / sizes[sizes > 0, None]
    columns = [k for k, size in zip(columns, sizes) if size > 0]
    r = x @ x.T
    whole, out = np.linalg.slogdet(r)[1], []
    for term in terms:
        own = np.array([str(part.terms[part.owner[k]]) == term for k in columns])
        inside, outside = (np.linalg.slogdet(r[np.ix_(m, m)])[1] for m in (own, ~own))
        with np.errstate(over="ignore"):
            out.append({"term": term, "vif": number(np.exp(inside + outside - whole)), "df": int(own.sum())})
    return out


def collinearity_findings(fit: Fit, rows: list[dict[str, Any]]) -> Iterator[Finding]:
    """Terms whose errors are mostly due to other terms; products and powers of one column are told by each other anyhow."""
    columns = {str(t): {c.name for c in columns_of(t)} for t in fit.design.fixed.terms}
    for row in rows:
        alone = not any(columns[row["term"]] & own for term, own in columns.items() if term != row["term"])
        if alone and (row["vif"] is None or row["vif"] ** (1.0 / row["df"]) > LARGE):
            size = "" if row["vif"] is None else f" (variance inflation {row['vif']:.3g})"
            yield Finding(
                "collinearity", row["term"], True, f"{row['term']} is nearly told by the other terms{size}: its effect is hardly theirs apart",
                "leave one of the terms that say the same out, or make one of them: orchard scout DATA shows which go together",
            )  # fmt: skip
