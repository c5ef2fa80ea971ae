"""The certificate, and that it would notice."""

from __future__ import annotations

from decimal import Decimal
from fractions import Fraction

import numpy as np
import pytest

from bold_orchard.certificate import exact, problems
from bold_orchard.certificate.certify import certify


def test_passes_here(orchard):
    done = orchard("certify", "--json")
    d = done.json
    assert done.code == 0 and d["passed"] and d["linear_algebra"] and len(d["checks"]) >= 30
    assert all(c["digits"] >= c["needed"] for c in d["checks"]) and d["seconds"] < 120
    assert "Passed" in orchard("certify").out


def test_broken_linear_algebra_is_not_blessed(monkeypatch):
    inverse = np.linalg.inv
    monkeypatch.setattr(problems.np.linalg, "inv", lambda a: inverse(a) * (1 + 1e-6))
    d = certify("0", lambda done, of: None).document
    assert not d["passed"] and not d["linear_algebra"] and len(d["checks"]) == 2 and "NumPy" in d["notes"][0]


@pytest.mark.slow
def test_a_wrong_likelihood_fails(monkeypatch):
    from bold_orchard.likelihood.gaussian import GaussianPoint

    right = GaussianPoint.deviance.func
    monkeypatch.setattr(GaussianPoint, "deviance", property(lambda self: right(self) + 1e-4))
    d = certify("0", lambda done, of: None).document
    assert (
        d["linear_algebra"]
        and not d["passed"]
        and any("deviance" in c["quantity"] for c in d["checks"] if not c["passed"])
    )


def test_what_breaks_down_counts_as_failed(monkeypatch):
    def breaks():
        """A problem: that breaks."""
        raise ZeroDivisionError
        yield

    monkeypatch.setattr("bold_orchard.certificate.certify.PROBLEMS", (problems.linear_algebra, breaks))
    d = certify("0", lambda done, of: None).document
    assert not d["passed"] and d["checks"][-1]["source"] == "broke down: ZeroDivisionError"


def test_exact_arithmetic():
    third = Fraction(1, 3)
    assert exact.solve([[Fraction(2), Fraction(1)], [Fraction(1), Fraction(3)]], [Fraction(1), third]) == [
        Fraction(8, 15),
        Fraction(-1, 15),
    ]
    assert exact.determinant([[Fraction(2), Fraction(1)], [Fraction(1), Fraction(3)]]) == 5
    assert (
        exact.digits(1.0 + 1e-9, Fraction(1)) == pytest.approx(9.0, abs=0.01)
        and exact.digits(0.5, Fraction(1, 2)) == 16.0
    )
    whole = exact.deviance(
        [Fraction(1), Fraction(3)],
        [[Fraction(1)], [Fraction(1)]],
        [[Fraction(4), Fraction(0)], [Fraction(0), Fraction(4)]],
        False,
    )
    assert float(whole) == pytest.approx(2 * np.log(2 * np.pi) + np.log(16) + 0.5, abs=1e-14) and isinstance(
        whole, Decimal
    )
