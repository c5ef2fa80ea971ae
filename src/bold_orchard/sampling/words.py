"""Names and words that the sampler and the answers from its draws share."""

from __future__ import annotations

from bold_orchard.inference.fit import Fit

RHAT = 1.01  # above which chains do not agree


def some(names: list[str]) -> str:
    return ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")


def effect_names(fit: Fit) -> list[str]:
    """unit LABEL: term, of every effect in the order in which they are drawn."""
    return [name for f in range(len(fit.design.blocks)) for row in block_effect_names(fit, f) for name in row]


def block_effect_names(fit: Fit, f: int) -> list[list[str]]:
    """The same of one block, a list for each level."""
    design, unit = fit.design, fit.design.blocks[f].unit
    marks = [(c, own.mark) for c, own in zip(design.clauses, fit.catalogue.clauses)]
    terms = [(mark, t) for c, mark in marks if c.block == f for t in c.part.names]
    return [[f"{unit.name}{mark} {label}: {term}" for mark, term in terms] for label in unit.texts]
