from __future__ import annotations

import hashlib

import pytest

from bold_orchard.errors import SentenceError
from bold_orchard.sentence import grammar, tree
from bold_orchard.sentence.parse import read_condition, read_sentence


def terms(text):
    return [str(t) for t in read_sentence(text).terms]


def test_the_parts_of_a_whole_sentence():
    s = read_sentence(
        "log(yield) = rain + [soil type]*rain without intercept; each tree in orchard (diagonal): intercept + rain; "
        "each season: intercept; within tree in orchard: ar1(season); spread = soil"
    )
    assert str(s.outcome) == "log(yield)" and not s.intercept
    assert [str(t) for t in s.terms] == ["rain", "soil type*rain"]
    assert [(str(e.unit), e.structure.kind, [str(t) for t in e.terms]) for e in s.each] == [
        ("tree in orchard", "diagonal", ["intercept", "rain"]),
        ("season", "unstructured", ["intercept"]),
    ]
    assert s.within.structure.kind == "ar1" and s.within.structure.column.name == "season"
    assert [str(t) for t in s.spread] == ["soil"]


def test_files_and_trials():
    s = read_sentence(
        'set of counted = bees; each tree (known "kin.csv"): intercept; each a (given units "g.csv"): intercept'
    )
    assert s.outcome.trials.name == "counted"
    assert s.each[0].structure.file == "kin.csv"
    assert (s.each[1].structure.over, s.each[1].structure.file) == ("units", "g.csv")


def test_cross_writes_all_products_and_products_alone_get_a_note():
    assert terms("y = cross(a, b, c)") == ["a", "b", "c", "a*b", "a*c", "b*c", "a*b*c"]
    assert terms("y = a + b + a*b + b*a") == ["a", "b", "a*b"]
    assert "stands without b" in read_sentence("y = a + a*b").notes[0]
    assert read_sentence("y = cross(a, b)").notes == ()


def test_american_spelling_and_nesting_of_functions():
    call = read_sentence("y = power(center(since(week)), 2)").terms[0].factors[0]
    assert str(call) == "power(centre(since(week)), 2)"


def test_words_of_the_grammar_may_be_column_names():
    s = read_sentence("y = each + spread + of; each in in within: in")
    assert terms("y = each + spread + of") == ["each", "spread", "of"]
    assert str(s.each[0].unit) == "in in within"


def test_arithmetic_obeys_the_usual_order():
    e = read_sentence("y = calc(-a^2 + b / (c - 1) * 2)").terms[0].factors[0].arguments[0]
    assert str(e) == "(-(a^2)) + (b / (c - 1) * 2)"


@pytest.mark.parametrize(
    ("text", "words", "start"),
    [
        ("yield = rain ++ pruning", "expected", 14),
        ("yield = rain; eech orchard: intercept", "did you mean 'each'", 14),
        ("yield = lgo(rain)", "did you mean 'log'", 8),
        ("yield = log(rain + 2)", "calc(rain + 2)", 12),
        ("yield = rain; each orchard (diagnal): rain", "did you mean 'diagonal'", 28),
        ("yield = rain; within tree: diagonal", "no structure 'diagonal'", 27),
        ("yield = rain; each tree (known): intercept", "needs a file", 25),
        ("yield = intercept*rain", "cannot be part of a product", 8),
        ("yield = rain + intercept without intercept", "both names the intercept", 15),
        ("yield = rain; each yield: intercept", "cannot also be", 19),
        ("yield = rain & sun", "no meaning", 13),
        ("yield = power(rain, 2.5)", "whole number", 20),
        ("yield = rain; each tree in tree: intercept", "nested in itself", 27),
        ("yield =", "the end", 7),
    ],
)
def test_errors_show_the_place(text, words, start):
    with pytest.raises(SentenceError) as e:
        read_sentence(text)
    assert words in str(e.value)
    assert e.value.start == start
    lines = str(e.value).splitlines()
    assert lines[-1].index("^") == 4 + start and lines[-2].strip() == text


def test_an_empty_sentence_says_how_to_write_one():
    with pytest.raises(SentenceError, match="is empty"):
        read_sentence("   ")


def test_conditions():
    c = read_condition("season in (1, 2) and not (pruning = none or rain*2 > 3)")
    assert isinstance(c, tree.Logic) and c.operator == "and"
    assert c.operands[0].operator == "in" and c.operands[1].operator == "not"


@pytest.mark.parametrize("start", grammar.STARTS)
def test_the_ready_made_parser_is_that_of_the_grammar(start, monkeypatch, tmp_path):
    """The stamp holds the grammar's digest; another version of the parsing library builds its own."""
    text = grammar.GRAMMAR.read_text()
    held = (grammar.READY / f"{start}.bin").read_bytes().partition(b"\n")[0].decode()
    assert held.split()[1] == hashlib.sha256(text.encode()).hexdigest(), "python -m bold_orchard.sentence.grammar"
    line = {
        "sentence": "y = x*z + power(x, 2); each tree in orchard (diagonal): intercept + x; within tree: ar1(week)",
        "condition": "rain > 3 and not (soil = 'clay' or season in (1, 2))",
        "combination": "2*hard - light = 0.5",
    }[start]
    fresh = grammar.built(text, start)
    assert grammar.parser(start).parse(line) == fresh.parse(line)
    monkeypatch.setattr(grammar, "READY", tmp_path)
    grammar.parser.cache_clear()
    assert grammar.parser(start).parse(line) == fresh.parse(line)
    grammar.parser.cache_clear()


def test_a_column_called_spread_is_an_outcome_like_any_other():
    """Only as a term of an each clause, alone, is the word something else."""
    from bold_orchard.sentence.parse import read_sentence

    plain, quoted = (
        read_sentence(f"{name} = rain; each tree: intercept + spread").outcome.value for name in ("spread", "[spread]")
    )
    assert plain.name == quoted.name == "spread" and type(plain) is type(quoted)
    assert str(read_sentence("spread = rain")) == str(read_sentence("[spread] = rain"))
    again = read_sentence(str(read_sentence("spread = rain")))
    assert again.outcome.value.name == "spread"
