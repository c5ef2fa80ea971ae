"""Tests whose error component is estimated as zero: what the classical analysis says of them."""

from __future__ import annotations

from bold_orchard.classical.anova import anova
from bold_orchard.errors import OrchardError
from bold_orchard.inference.fit import Fit
from bold_orchard.results.terms import TermsResult


def pooled_notes(fit: Fit, result: TermsResult) -> list[str]:
    """One note for each term told between levels of a unit whose variance is zero, where the rows are then its error."""
    gone = {p.group for p in fit.result.random if p.terms == ["intercept"] and p.sd[0] == 0}
    found = [t for t in result.tests if t.stratum in gone and t.p is not None]
    if not found:
        return []
    try:
        classical = {row["source"]: row for row in anova(fit).to_dict()["rows"]}
    except OrchardError:
        classical = {}
    out = []
    for t in found:
        row = classical.get(t.term)
        other = "the classical analysis (orchard anova) keeps that unit as the error"
        if row and row["f"] is not None:
            other = f"{other}: F {row['f']:.3g} on {row['df']} and {row['error_df']:.3g} df, p {row['p']:.3g}"
        out.append(
            f"{t.term} is told between levels of {t.stratum}, whose variance is estimated as zero, so that rows are its error here; {other}."
        )
    return out
