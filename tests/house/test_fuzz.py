"""A minute of what `make fuzz` does for an hour, and every seed that once found something."""

from __future__ import annotations

import itertools
import os
import random
import signal

import pytest
from hypothesis import given
from hypothesis import strategies as st

import files
import harm
import sentences
from bold_orchard.data.natural_order import natural_key, natural_order

FOUND = [
    1202866,
    702135,
    600853,
    23,
    86,
    158,
    217,
    226,
    694,
    734,
    797,
    1125,
    1188,
    1301,
]  # draws that are no numbers; labels "3" beside "3a"; a separator before a number; a fit without data


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    """The fuzzing functions work in the folder at hand."""
    before = os.getcwd()
    os.chdir(tmp_path_factory.mktemp("fuzz"))
    old = signal.signal(signal.SIGALRM, sentences.late)
    files.prepare()
    yield
    signal.signal(signal.SIGALRM, old)
    os.chdir(before)


@pytest.mark.few(1)
@pytest.mark.parametrize("kind", files.KINDS)
def test_damaged_files_and_odd_words_get_a_line(folder, kind):
    found = [files.trouble(seed, kind) for seed in range(500_000, 500_060)]
    assert not [f for f in found if f]


@pytest.mark.few(2)
@pytest.mark.parametrize("kind", harm.KINDS)
def test_nothing_of_the_users_is_harmed(kind, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    old = signal.signal(signal.SIGALRM, sentences.late)
    harm.prepare()
    found = [harm.trouble(seed, kind) for seed in range(700_000, 700_012)]
    signal.signal(signal.SIGALRM, old)
    assert not [f for f in found if f]


@pytest.mark.parametrize("seed", FOUND)
def test_what_was_found_once(folder, seed):
    assert files.trouble(seed, {1202866: "sentence", 702135: "bytes", 600853: "saved fit"}.get(seed)) is None


def test_the_mutations_do_mutate(folder):
    """Most sentences and files differ from what they were made of, and a good part of them is still understood."""
    r = random.Random(1)
    changed = [files.mutated_words(files.SENTENCE, r) for _ in range(100)]
    assert len(set(changed)) > 90 and files.SENTENCE not in changed
    data = files.table(1).to_csv(index=False).encode()
    assert sum(files.mutated_bytes(data, r) != data for _ in range(100)) > 90
    codes = [files.run(files.MAKERS["cells"](seed, random.Random(seed)))[0] for seed in range(30)]
    assert 5 < codes.count(0) < 30


@given(
    st.lists(
        st.sampled_from(
            ["3", "3a", "-3", "3.5", "a3", "block 2", "block 10", "", " ", "1e5", "\u0663", "b", "3 ", "+3"]
        ),
        max_size=8,
    )
)
def test_any_labels_have_an_order(labels):
    """One order of all labels, whatever they are mixed with, the same from every beginning."""
    order = [labels[i] for i in natural_order(labels)]
    assert sorted(labels) == sorted(order)
    again = sorted(set(labels), key=natural_key)
    assert again == list(dict.fromkeys(order))


def test_labels_like_numbers_stand_before_those_that_begin_with_them():
    for labels in itertools.permutations(["3a", "3", "10", "10b"]):
        assert [labels[i] for i in natural_order(labels)] == ["3", "3a", "10", "10b"]
