"""The studentized range against the library's nested quadrature, and against t where there are two groups."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import stats

from bold_orchard.inference.coefficients.multiplicity import range_quantile, range_tail


@pytest.mark.parametrize("groups", [2, 3, 7, 40])
@pytest.mark.parametrize("df", [1.0, 2.6, 12.0, 300.0, None])
def test_the_tail_is_the_library_s(groups, df):
    for q in (0.4, 2.5, 4.0, 9.0):
        expected = stats.studentized_range.sf(q, groups, np.inf if df is None else df)
        assert range_tail(q, groups, df) == pytest.approx(expected, rel=1e-6, abs=1e-10)


@pytest.mark.parametrize("df", [1.0, 3.3, 25.0, 1000.0, None])
def test_two_groups_are_a_t_test_and_quantiles_go_back(df):
    law = stats.norm() if df is None else stats.t(df)
    for t in (0.1, 1.9, 5.0, 8.0):
        assert range_tail(np.sqrt(2) * t, 2, df) == pytest.approx(2 * law.sf(t), rel=1e-5)
    for confidence in (0.5, 0.95, 0.999):
        assert range_quantile(confidence, 2, df) == pytest.approx(np.sqrt(2) * law.ppf((1 + confidence) / 2), rel=1e-7)
        assert range_tail(range_quantile(confidence, 6, df), 6, df) == pytest.approx(1 - confidence, rel=1e-7)
    assert range_tail(0.0, 5, df) == 1.0
