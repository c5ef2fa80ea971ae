"""Each variance of a fit, with its covariances, against the model without it."""

from __future__ import annotations

from dataclasses import replace

from bold_orchard.errors import OrchardError
from bold_orchard.inference.comparison.compare import compare
from bold_orchard.inference.distributions import half_and_half, p_of_chisq
from bold_orchard.inference.fit import Fit, fit
from bold_orchard.inference.smooths import against_line
from bold_orchard.progress import Progress
from bold_orchard.results.compare import RatioTest
from bold_orchard.results.components import ComponentTest
from bold_orchard.sentence.edit import with_clause
from bold_orchard.sentence.tree import Sentence


def component_tests(made: Fit, seed: int, progress: Progress) -> tuple[list[ComponentTest], list[str]]:
    """Likelihood-ratio tests of every term of every each clause, and what to say of them.

    The fixed part is the same in both models, so that REML likelihoods compare; p at the boundary as in ``compare``. Where the smaller model
    cannot be fitted, or is no special case, the figures are None and a note says why. Raises OrchardError for fits made in pieces.
    """
    made.needs_rows("a test of every component")
    sentence, units = made.design.sentence, made.design.units
    asked = [(k, t) for k, clause in enumerate(made.design.clauses) for t in clause.part.terms]  # a wiggle is one term
    tests, notes = [], []
    for done, (k, term) in enumerate(asked, start=1):
        clause = made.design.clauses[k]
        left = tuple(t for t in clause.part.terms if t is not term)
        test = ComponentTest(units[clause.unit].name, str(term), None, None, None, None)
        if clause.wiggle:
            found_line = against_line(made.model, k)
            if found_line is not None:
                test = replace(
                    test, chisq=found_line, df=1, p=p_of_chisq(found_line, 1), p_boundary=half_and_half(found_line, 1)
                )
            tests.append(test)
            progress(done, len(asked))
            continue
        try:
            found = _against(made, with_clause(sentence, k, left), seed)
            test = replace(test, chisq=found.chisq, df=found.df, p=found.p, p_boundary=found.p_boundary)
            if not found.nested:
                notes.append(
                    f"{test.group}, {term}: the model without it is no special case of this one, so it has no test."
                )
        except OrchardError as e:
            notes.append(
                f"{test.group}, {term}: the model without it has no fit to compare ({str(e).splitlines()[0]})."
            )
        tests.append(test)
        progress(done, len(asked))
    slopes = [
        units[c.unit].name
        for c in made.design.clauses
        if len(c.part.terms) > 1 and any(t.is_intercept for t in c.part.terms)
    ]
    if slopes:
        notes.append(
            f"The test of the intercept of {' and '.join(dict.fromkeys(slopes))} is of units that agree where the covariates are zero; it changes as these are centred."
        )
    if any(t.p_boundary is not None for t in tests):
        notes.append(
            "Tests of variances: zero is the edge of what a variance can be, so read the p at the boundary; the plain p is too large."
        )
    return tests, notes


def _against(made: Fit, smaller: Sentence, seed: int) -> RatioTest:
    small = fit(smaller, made.design.table, made.settings, name=f"{made.name} without it")
    return compare([small, made], seed=seed).tests[0]
