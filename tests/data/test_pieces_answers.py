"""Questions that sums of rows do not answer are answered from the rows: nothing in the words or figures tells the two apart."""

from __future__ import annotations

import numpy as np
import pytest
from test_pieces import close, table

import bold_orchard as bo
from bold_orchard.data import pieces

PLAIN, MORE = "yield = rain + soil; each tree: intercept", "yield = rain + soil; each tree: intercept + rain"


@pytest.fixture
def fits(tmp_path, monkeypatch):
    """``fits(sentence)``: the fit in memory and the one made of sums."""
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr(pieces, "LEAST", 1)
    monkeypatch.setattr(pieces, "ROWS", 70)
    frame = table()
    (tmp_path / "parts").mkdir()
    frame.to_parquet("whole.parquet")
    for k, rows in enumerate(np.array_split(np.arange(len(frame)), 4)):
        frame.iloc[rows].to_parquet(f"parts/p{k}.parquet")

    def made(sentence, **options):
        return bo.fit(sentence, "whole.parquet", **options), bo.fit(sentence, "parts", memory=20, **options)

    return made


def test_effect_sizes_equations_matrices(fits):
    one, two = fits(PLAIN)
    close(one.terms(effect_sizes=True).to_dict(), two.terms(effect_sizes=True).to_dict(), rel=1e-6)
    for estimates in (False, True):
        close(one.equations(estimates=estimates).to_dict(), two.equations(estimates=estimates).to_dict())
    small = [m.matrices() for m in fits("yield = rain; each orchard: intercept")]
    assert small[0].keys() == small[1].keys() and small[0]["X"].shape == small[1]["X"].shape


@pytest.mark.slow
def test_bootstraps_draw_rows(fits):
    one, two = fits(PLAIN)
    a, b = (m.intervals("bootstrap", samples=40).to_dict()["parameters"] for m in (one, two))
    for x, y in zip(a, b, strict=True):
        assert y["low"] == pytest.approx(x["low"], rel=1e-4) and y["high"] == pytest.approx(x["high"], rel=1e-4)
    large = fits(MORE)
    tests = [bo.compare(*pair, bootstrap=20).to_dict()["tests"][0] for pair in zip((one, two), large)]
    close(*tests, rel=1e-5)


def test_fits_of_two_kinds_and_scales_are_compared(fits):
    one, two = fits(PLAIN)
    curved = fits("yield = spline(rain, 3) + soil; each tree: intercept")  # rows on disk, not sums
    close(*[bo.compare(*pair).to_dict()["models"] for pair in zip((one, two), curved)], rel=1e-6)
    close(
        *[
            bo.compare(*pair).to_dict()["models"]
            for pair in ((one, curved[0]), (one, two.compare(curved[1]) and curved[1]))
        ],
        rel=1e-6,
    )
    big, log = fits("big = rain; each tree: intercept"), fits("log(big) = rain; each tree: intercept")
    close(*[bo.compare(*pair).to_dict()["models"] for pair in zip(big, log)], rel=1e-6)
    less = fits("yield = rain; each tree: intercept")
    close(*[bo.compare(*pair, common_rows=True).to_dict()["tests"] for pair in zip(less, (one, two))], rel=1e-5)


@pytest.mark.parametrize("df", ["kenward-roger", "residual", "satterthwaite"])
def test_degrees_of_freedom(fits, df):
    one, two = fits(MORE, df=df)
    close(one.to_dict()["fixed"], two.to_dict()["fixed"], rel=1e-5)
    close(one.terms(2).to_dict(), two.terms(2).to_dict(), rel=1e-5)


@pytest.mark.parametrize(
    ("sentence", "options"),
    [("sold = rain + soil; each orchard: intercept; each tree in orchard: intercept", {"family": "binomial"}),
     ("fruits = rain + soil; each tree: intercept + rain", {"family": "poisson"})],
)  # fmt: skip
def test_generalized_fits_on_disk_answer_as_in_memory(fits, sentence, options):
    one, two = fits(sentence, **options)
    new = table().head(20).assign(tree=["t1", "zz"] * 10)
    asks = [lambda m: m.predict(), lambda m: m.predict(new), lambda m: m.predict(new, new_observation=True), lambda m: m.groups(),
            lambda m: m.means("soil", differences=True), lambda m: bo.draw(m, along="rain"), lambda m: m.simulate(), lambda m: m.equations()]  # fmt: skip
    for place, ask in enumerate(asks):
        close(ask(one).to_dict(), ask(two).to_dict(), at=str(place), rel=1e-3)
