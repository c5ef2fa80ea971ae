"""Properties that hold for whatever is typed or read, by Hypothesis."""

from __future__ import annotations

import csv
import math

import numpy as np
import pandas as pd
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from bold_orchard.data.evaluate import evaluate, filter_rows
from bold_orchard.data.header import MISSING
from bold_orchard.data.natural_order import label_texts, natural_order
from bold_orchard.data.read import read_bytes
from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError, SentenceError
from bold_orchard.inference.coefficients.multiplicity import adjusted
from bold_orchard.sentence import tree
from bold_orchard.sentence.parse import read_combination, read_condition, read_sentence

NAMES = st.sampled_from(["rain", "sun", "week", "x_1", "Höhe", "a.b"])
VALUES = {"rain": 2.5, "sun": -1.25, "week": 7.0, "x_1": 0.5, "Höhe": 3.0, "a.b": 11.0}


def expressions():
    """(text, the same for Python) of random arithmetic."""
    leaf = st.one_of(
        st.integers(1, 9).map(lambda n: (str(n), str(float(n)))),
        NAMES.map(lambda n: (n, f"v[{n!r}]")),
        NAMES.map(lambda n: (f"[{n}]", f"v[{n!r}]")),
    )

    def grow(inner):
        pairs = st.tuples(inner, st.sampled_from("+-*/"), inner)
        return st.one_of(
            pairs.map(lambda p: (f"{p[0][0]} {p[1]} {p[2][0]}", f"{p[0][1]} {p[1]} {p[2][1]}")),
            inner.map(lambda e: (f"({e[0]})", f"({e[1]})")),
            inner.map(lambda e: (f"(-({e[0]}))", f"(-({e[1]}))")),
            st.tuples(inner, st.integers(1, 3)).map(lambda p: (f"({p[0][0]})^{p[1]}", f"({p[0][1]})**{p[1]}")),
        )

    return st.recursive(leaf, grow, max_leaves=8)


@settings(max_examples=150, deadline=None)
@given(expressions())
def test_arithmetic_means_what_it_means_everywhere(pair):
    text, python = pair
    try:
        wanted = eval(python, {"v": VALUES, "abs": abs})
    except (ZeroDivisionError, OverflowError):
        assume(False)
    call = read_sentence(f"y = calc({text})").terms[0].factors[0]
    value = evaluate(call, lambda c: np.array([VALUES[c.name]]))
    assert float(np.ravel(value)[0]) == pytest.approx(wanted, rel=1e-12, abs=1e-12)
    again = read_sentence(f"y = {call}").terms[0].factors[0]  # the printed form reads back as the same
    assert float(np.ravel(evaluate(again, lambda c: np.array([VALUES[c.name]])))[0]) == pytest.approx(
        wanted, rel=1e-12, abs=1e-12
    )


@settings(max_examples=60, deadline=None)
@given(st.text(alphabet="abcyrain=+*();:., []^eachinwithoutspread\"'0123456789<>!-", max_size=40))
def test_no_text_brings_more_than_a_sentence_error(text):
    for read in (read_sentence, read_condition, read_combination):
        try:
            read(text)
        except SentenceError as e:
            assert str(e).strip() and (not e.text or 0 <= e.start <= len(e.text))


CELLS = st.one_of(
    st.floats(allow_nan=False, allow_infinity=False, width=64),
    st.integers(-(10**6), 10**6),
    st.just(None),
)


@settings(max_examples=60, deadline=None)
@given(st.lists(st.tuples(CELLS, st.text(alphabet="abcäß ,;\"'x7", min_size=1, max_size=8)), min_size=1, max_size=30))
def test_a_table_written_as_csv_reads_back_to_the_last_bit(rows):
    assume(any(v is not None for v, _ in rows))
    import io

    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["value", "label"])
    for value, label in rows:
        writer.writerow(["" if value is None else repr(value), f"L{label}"])
    t = read_bytes(out.getvalue().encode(), "t.csv")
    numbers = t.numbers("value")
    for got, (wanted, _) in zip(numbers, rows):
        assert math.isnan(got) if wanted is None else got == float(wanted)
    assert [t.labels("label").texts[c] for c in t.labels("label").codes] == [f"L{label}" for _, label in rows]


@settings(max_examples=50, deadline=None)
@given(
    st.lists(
        st.one_of(st.sampled_from([*MISSING, "n/a", "-999", "none"]), st.integers(0, 50).map(str)),
        min_size=2,
        max_size=20,
    )
)
def test_missing_is_missing_and_nothing_else(cells):
    raw = "v,w\n" + "".join(f"{c},1\n" for c in cells)
    t = read_bytes(raw.encode(), "t.csv", ["-999"])
    wanted = [c in (*MISSING, "-999") for c in cells]
    assert t.is_missing("v").tolist() == wanted
    text = any(c in ("n/a", "none") for c in cells)
    assert t.kind("v") == ("empty" if all(wanted) else "category" if text else "number")


@given(st.lists(st.integers(-500, 500), min_size=1, max_size=30, unique=True))
def test_numbers_in_labels_count_as_numbers(numbers):
    plain = [str(n) for n in numbers]
    assert [int(plain[i]) for i in natural_order(plain)] == sorted(numbers)
    named = [f"block {abs(n)}" for n in numbers]
    assert [abs(numbers[i]) for i in natural_order(named)] == sorted(abs(n) for n in numbers)
    assert label_texts(np.array(numbers, dtype=float)) == plain


SIGNS = {"<": np.less, "<=": np.less_equal, ">": np.greater, ">=": np.greater_equal, "=": np.equal, "!=": np.not_equal}


@settings(max_examples=60, deadline=None)
@given(
    st.sampled_from(list(SIGNS)),
    st.integers(-3, 3),
    st.sampled_from(list(SIGNS)),
    st.integers(-3, 3),
    st.sampled_from(["and", "or"]),
)
def test_conditions_agree_with_numpy_and_drop_the_unknown(one, a, two, b, word):
    r = np.random.default_rng(abs(a * 7 + b))
    x, y = r.integers(-3, 4, 60).astype(float), r.integers(-3, 4, 60).astype(float)
    x[::7] = np.nan
    frame = pd.DataFrame({"x": x, "y": y})
    with np.errstate(invalid="ignore"):
        left, right = np.where(np.isnan(x), np.nan, SIGNS[one](x, a)), SIGNS[two](y, b)
    truth = (left == 1) & right if word == "and" else (left == 1) | right
    sign_a, sign_b = (f"{s} {v}" if v >= 0 else f"{s} (-{-v})" for s, v in ((one, a), (two, b)))
    try:
        kept = filter_rows(Table(frame, "t", 60), f"x {sign_a} {word} y {sign_b}").row_numbers
    except OrchardError:
        assert not truth.any()
    else:
        np.testing.assert_array_equal(kept, np.flatnonzero(truth) + 1)
    flipped = (left == 0) & ~right if word == "or" else (left == 0) | ~right
    if flipped.any():
        kept = filter_rows(Table(frame, "t", 60), f"not (x {sign_a} {word} y {sign_b})").row_numbers
        np.testing.assert_array_equal(kept, np.flatnonzero(flipped) + 1)


@settings(max_examples=40, deadline=None)
@given(
    st.lists(st.floats(1e-6, 1.0), min_size=3, max_size=10), st.sampled_from(["sidak", "bonferroni", "holm", "none"])
)
def test_adjusted_p_values_never_fall_and_keep_their_order(ps, method):
    pairs = [{"p": p, "statistic": 1.0, "df": 20.0} for p in ps]
    made = [p for p, _ in adjusted(pairs, method, 4, 0.95)]
    assert all(0 <= b <= 1 and b >= a - 1e-12 for a, b in zip(ps, made))
    order = np.argsort(ps, kind="stable")
    assert np.all(np.diff(np.array(made)[order]) >= -1e-12)
    holm, bonferroni = ([p for p, _ in adjusted(pairs, m, 4, 0.95)] for m in ("holm", "bonferroni"))
    assert all(h <= b + 1e-12 for h, b in zip(holm, bonferroni))


def test_a_combination_has_a_number_on_its_right():
    left, value = read_combination("2*rain - sun = 0.5")
    assert isinstance(left, tree.Arithmetic) and value == 0.5 and read_combination("hard - light")[1] == 0.0
    with pytest.raises(SentenceError, match="right side"):
        read_combination("rain = sun")
