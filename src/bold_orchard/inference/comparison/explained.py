"""How much of each variance a larger model explains, where that means anything."""

from __future__ import annotations

from typing import Any

from bold_orchard.inference.fit import Fit
from bold_orchard.inference.summary import number


def variance_explained(small: Fit, large: Fit) -> list[dict[str, Any]]:
    """1 - larger / smaller for every variance that both models have; None where its clause differs between them."""
    if scale_of(small) != scale_of(large):
        return []
    one, two = _variances(small), _variances(large)
    here, there = _clauses(small), _clauses(large)
    return [
        {
            "group": g,
            "term": t,
            "proportion": number(1.0 - two[g, t, k] / one[g, t, k])
            if one[g, t, k] > 0 and here.get(g) == there.get(g)
            else None,
        }
        for g, t, k in one
        if (g, t, k) in two
    ]


def scale_of(fit: Fit) -> tuple[str, str]:
    return fit.design.family, fit.design.link


def _clauses(fit: Fit) -> dict[str, Any]:
    """Per unit what varies together in it, however it was written; of the residual its structure."""
    out: dict[str, Any] = {}
    for part in fit.result["random"]:
        names, kind = part["terms"], part["structure"]
        alone = kind == "diagonal" or (len(names) == 1 and kind not in ("known", "given"))
        blocks = [(frozenset([n]), "alone") for n in names] if alone else [(frozenset(names), kind)]
        blocks += [(frozenset(row["term"] for row in part["vary"]), "vary")] if "vary" in part else []
        out[part["group"]] = out.get(part["group"], frozenset()) | frozenset(blocks)
    spread = tuple(t.written for t in fit.design.sentence.spread)
    residual = fit.design.residual
    return out | {"residual": (residual.kind, residual.unit, residual.by, spread)}


def differing(small: Fit, large: Fit) -> list[str]:
    """Groups whose components cannot be set against each other, said in words."""
    if scale_of(small) != scale_of(large):
        return [
            f"No share of explained variance: {small.name} and {large.name} are of different families, whose variances are on scales "
            "of their own."
        ]
    lost = list(dict.fromkeys(v["group"] for v in variance_explained(small, large) if v["proportion"] is None))
    here, there = _clauses(small), _clauses(large)
    lost = [g for g in lost if here.get(g) != there.get(g)]
    if not lost:
        return []
    return [
        f"No share of explained variance for {' and '.join(lost)}: what varies there differs between {small.name} and {large.name}, "
        "so the variances mean different things."
    ]


def _variances(fit: Fit) -> dict[tuple[str, str, str], float]:
    """By unit, term and, where clauses of one unit share a term, what tells them apart."""
    residual = (fit.result["residual"] or {}).get("variance")
    out = {
        (part["group"], term, fit.catalogue.label_of(clause)): part["covariance"][i][i]
        for clause, part in zip(fit.design.clauses, fit.result["random"])
        for i, term in enumerate(part["terms"])
    }
    return out if residual is None else out | {("residual", "residual", ""): residual}
