"""Names and words that the sampler and the answers from its draws share."""

from __future__ import annotations

from bold_orchard.inference.coefficients.maximum_likelihood import threshold_names
from bold_orchard.inference.fit import Fit

RHAT = 1.01  # above which chains do not agree


def some(names: list[str]) -> str:
    return ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")


def effect_names(fit: Fit) -> list[str]:
    """unit LABEL: term, of every effect in the order in which they are drawn."""
    out = []
    for f, block in enumerate(fit.design.blocks):
        terms = [t for c in fit.design.clauses if c.block == f for t in c.part.names]
        out += [f"{block.unit.name} {label}: {term}" for label in block.unit.texts for term in terms]
    return out


def fixed_names(fit: Fit) -> list[str]:
    """Thresholds of grades, then the coefficients with an estimate."""
    grades = threshold_names(fit.design) if fit.design.graded else []
    return [*grades, *(fit.design.fixed.names[k] for k in fit.model.kept)]
