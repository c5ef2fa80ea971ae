"""Columns handed to the Arrow library byte for byte are what its own conversion makes of them."""

from __future__ import annotations

import math
import subprocess
import sys

import numpy as np
import pytest

from bold_orchard.data import to_arrow
from bold_orchard.data.columns import Texts, factorize
from bold_orchard.data.to_arrow import arrow_of

pa = pytest.importorskip("pyarrow")
r = np.random.default_rng(1)
GAPS = np.where(r.random(1003) < 0.2, np.nan, r.normal(size=1003))
ODD = ["plain", None, "", "é ü", "日本", "a,b", "two\nlines", "\U0001f34e"]


@pytest.mark.parametrize(
    "values",
    [
        r.normal(size=1001), GAPS, GAPS.astype(np.float32), np.full(9, np.nan), np.arange(1000), np.arange(-5, 4, dtype=np.int8),
        np.arange(10, dtype=np.uint64), r.random(1003) < 0.5, np.zeros(0), np.zeros(0, dtype=bool), np.arange(100.0)[::3],
        np.arange(12.0).reshape(3, 4)[:, 1], np.array([1.0, -np.inf, np.nan, 5e-324]),
        np.array(ODD, dtype=object), np.array(["one", "two"], dtype=object), np.array([None, None], dtype=object), np.zeros(0, dtype=object),
        np.array([1, 2.5, None], dtype=object), np.array([True, None], dtype=object), np.array(["x", "yy"]),
    ],
    ids=lambda v: f"{v.dtype}-{v.size}",
)  # fmt: skip
def test_arrays(values):
    made, usual = arrow_of(values), pa.array(values, from_pandas=True)
    made.validate(full=True)
    assert made.to_pylist() == usual.to_pylist() and made.null_count == usual.null_count
    assert made.type == usual.type or not len(values) or set(usual.to_pylist()) == {None}


def test_texts_by_their_codes():
    raw = np.array([t for t in ODD if t is not None], dtype=object)
    codes = r.integers(-1, len(raw), 500)
    column = Texts(codes, raw)
    assert arrow_of(column).to_pylist() == column.values().tolist()
    assert arrow_of(Texts(codes[::7], raw)).to_pylist() == column.values()[::7].tolist()
    assert arrow_of(Texts(np.full(4, -1), np.zeros(0, dtype=object))).to_pylist() == [None] * 4


def test_texts_too_long_for_one_array_are_left_to_arrow(monkeypatch):
    monkeypatch.setattr(to_arrow, "MOST_BYTES", 10)
    assert arrow_of(np.array(["a" * 6, "b" * 6], dtype=object)).to_pylist() == ["a" * 6, "b" * 6]


@pytest.mark.parametrize(
    "values",
    [r.integers(-40, 40, 60_000), r.integers(0, 30, 60_000) / 3, np.where(r.random(60_000) < 0.1, np.nan, 7.5)],
)
def test_distinct_values_come_in_the_order_of_their_appearance(values):
    codes, distinct = factorize(values)
    slow = list(dict.fromkeys(v for v in values.tolist() if not math.isnan(v)))
    assert distinct.tolist() == slow
    assert [None if c < 0 else slow[c] for c in codes] == [None if math.isnan(v) else v for v in values.tolist()]


def test_pandas_sleeps_on():
    code = (
        "import sys, numpy as np; from bold_orchard.data.to_arrow import arrow_of; from bold_orchard.data.columns import Texts, factorize;"
        "arrow_of(np.arange(5.0)); arrow_of(np.array(['a', None], dtype=object)); arrow_of(np.array([True, False]));"
        "arrow_of(Texts(np.array([0, -1]), np.array(['a'], dtype=object))); factorize(np.arange(100_000)); assert 'pandas' not in sys.modules"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
