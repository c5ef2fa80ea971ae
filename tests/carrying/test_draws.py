"""The linear predictor as a function of the carried effects: by products of columns, and by building every column anew."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard.carrying.draws import Augmented, Parameters
from bold_orchard.carrying.effects import carried, with_columns_named
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.sentence.parse import read_sentence
from builders import table_of

LEVEL, SLOPE = "effect(tree: intercept)", "effect(tree: week)"
SENTENCES = {
    "alone": f"price = {LEVEL} + x",
    "two in a product": f"price = {LEVEL}*{SLOPE} + {LEVEL} + {SLOPE} + site",
    "with a category": f"price = site*{LEVEL} + site + {LEVEL} without intercept",
    "an offset beside": f"price = {LEVEL} + offset(x)",
    "slopes that vary": f"price = {LEVEL}*x + {LEVEL} + x; each site: intercept + {LEVEL}",
    "inside a function": f"price = power({LEVEL}, 2) + x",
    "under a name": f"let level = rescale({LEVEL}, 2); price = level + x",
}


def data(seed=2, units=30):
    r = np.random.default_rng(seed)
    tree, names = np.repeat(np.arange(units), 5), np.array([f"t{i}" for i in range(units)])
    week = np.tile(np.arange(5.0), units)
    u = r.normal(size=(units, 2))
    girth = 10 + u[tree, 0] + 0.5 * u[tree, 1] * week + r.normal(size=len(tree))
    rows = np.tile(np.arange(units), 2)
    price = 3 + u[rows, 0] + r.normal(size=len(rows))
    two = {
        "tree": names[rows],
        "x": r.normal(size=len(rows)),
        "site": r.choice(list("abcdef"), len(rows)),
        "price": price,
    }
    return pd.DataFrame({"tree": names[tree], "week": week, "girth": girth}), pd.DataFrame(two)


def augmented(sentence):
    one, two = data()
    first = bo.fit("girth = week; each tree: intercept + week", one, name="first").core
    text, wanted = with_columns_named(sentence)
    table = table_of(two)
    effects = carried(first, wanted, table)
    columns = {n: v for c in effects for n, v in c.columns(c.mean).items()}
    plain = fit(read_sentence(text), table.with_columns(columns), Settings(), "second")
    return Augmented(plain.model, effects, [c.level for c in effects])


@pytest.mark.parametrize("name", SENTENCES)
def test_products_answer_as_columns_built_anew(name):
    made = augmented(SENTENCES[name])
    assert (made.products is None) == (name in ("inside a function", "under a name"))
    r = np.random.default_rng(4)
    own = tuple(r.normal(size=(60, len(c.part.names))) for c in made.design.clauses)
    drawn = Parameters(r.normal(size=len(made.first.kept)), own, 1.0)
    fast = made._predictor(drawn)
    made.products = None
    slow = made._predictor(drawn)
    for _ in range(3):
        effects = [r.normal(size=e.shape) for e in made.effects]
        np.testing.assert_allclose(fast(effects), slow(effects), rtol=1e-12, atol=1e-12)
    assert np.ptp(fast(effects) - fast([2 * e for e in effects])) > 0.1
