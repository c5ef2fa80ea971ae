"""Tests of terms whose error is estimated as nothing, and the other answer that is named beside them."""

from __future__ import annotations

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo


def orchards(seed, effects, slopes=0.0):
    """Six orchards of 4 rows, soil of the orchard, rain of the row; ``effects`` of the orchards as they are asked for."""
    r = np.random.default_rng(seed)
    code = np.repeat(np.arange(6), 4)
    noise = r.normal(size=24)
    noise -= np.repeat(noise.reshape(6, 4).mean(axis=1), 4)
    rain = np.tile([-1.5, -0.5, 0.5, 1.5], 6)
    soil = np.array(["clay", "loam"])[code % 2]
    y = noise + np.asarray(effects)[code] + slopes * np.asarray(effects)[code] * rain
    return pd.DataFrame({"orchard": code, "soil": soil, "rain": rain, "yield": y})


def notes_of(frame, sentence, **options):
    return [n for n in bo.fit(sentence, frame).terms(**options).to_dict()["notes"] if "chance alone" in n]


def test_a_unit_at_zero_names_the_classical_answer():
    frame = orchards(1, [0.01, 0, 0, 0.02, 0, 0.01])
    (note,) = notes_of(frame, "yield = soil; each orchard: intercept")
    means = frame.groupby("orchard")["yield"].mean().to_numpy()
    one, two = means[::2], means[1::2]
    pooled = (one.var(ddof=1) + two.var(ddof=1)) / 2
    f = (one.mean() - two.mean()) ** 2 / (pooled * 2 / 3)
    assert "estimated as zero" in note and f"F {f:.3g} on 1 and 4 df" in note


def test_a_line_of_effects_names_kenward_and_roger():
    frame = orchards(2, [3.0, -1.0, 0.5, -2.0, 1.5, 0.7], slopes=1.0)
    sentence = "yield = soil + rain; each orchard: intercept + rain"
    notes = notes_of(frame, sentence)
    assert notes and all("at its boundary" in n and "--df kenward-roger" in n for n in notes)
    other = {t["term"]: t for t in bo.fit(sentence, frame).terms(df="kenward-roger").to_dict()["tests"]}
    assert f"{other['soil']['den_df']:.3g} df, p {other['soil']['p']:.3g}" in notes[0]
    assert not notes_of(frame, sentence, df="kenward-roger")


@pytest.mark.parametrize(
    "sentence", ["yield = soil; each orchard: intercept", "yield = soil + rain; each orchard: intercept"]
)
def test_nothing_is_said_where_units_vary(sentence):
    assert not notes_of(orchards(3, [3.0, -1.0, 0.5, -2.0, 1.5, 0.7]), sentence)
