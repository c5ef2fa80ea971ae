"""Tests whose error component is estimated as zero: what analyses that keep it say of them."""

from __future__ import annotations

from bold_orchard.classical.anova import anova
from bold_orchard.errors import OrchardError
from bold_orchard.inference.coefficients.terms import terms
from bold_orchard.inference.fit import Fit
from bold_orchard.results.terms import TermsResult, TermTest

NOTHING = 1e-6  # of the residual SD, below which an SD is zero but for rounding


def pooled_notes(fit: Fit, result: TermsResult) -> list[str]:
    """One note for each term told between levels of a unit whose effects are estimated as zero, or on their boundary."""
    if result.df_method == "kenward-roger":  # which keeps a component at its boundary
        return []
    edges = set(fit.result.convergence.boundary_terms)
    gone = {
        p.group: p.sd[0] for p in fit.result.random if p.terms[0] == "intercept" and (p.sd[0] == 0 or p.group in edges)
    }
    out = []
    for t in result.tests:
        if t.p is None or t.stratum not in gone:
            continue
        what = (
            "variance is estimated as zero, so that rows are its error here, and"
            if (gone[t.stratum] or 0.0) <= NOTHING * fit.evaluation.sigma2**0.5
            else "covariance is estimated at its boundary, so that its df are more than the levels give, and"
        )
        out.append(
            f"{t.term} is told between levels of {t.stratum}, whose {what} chance alone gives small p too often; {_kept(fit, result, t)}."
        )
    return out


def _kept(fit: Fit, result: TermsResult, test: TermTest) -> str:
    """The same test by an analysis that keeps the unit as the error: the classical one, or Kenward & Roger's."""
    try:
        row = next(r for r in anova(fit).to_dict()["rows"] if r["source"] == test.term and r["f"] is not None)
        words = "the classical analysis (orchard anova) keeps that unit as the error"
        return f"{words}: F {row['f']:.3g} on {row['df']} and {row['error_df']:.3g} df, p {row['p']:.3g}"
    except (OrchardError, StopIteration):
        pass
    words = "--df kenward-roger keeps that unit as the error"
    try:
        other = next(t for t in terms(fit, result.type, "kenward-roger").tests if t.term == test.term)
    except OrchardError:
        return words
    if other.p is None or other.den_df is None:
        return words
    return f"{words}: F {other.value:.3g} on {other.num_df} and {other.den_df:.3g} df, p {other.p:.3g}"
