"""Data larger than --memory: the fit made of pieces is the fit in memory, and so is what follows from it."""

from __future__ import annotations

import contextlib
import json
import logging
import subprocess
import sys
import time

import numpy as np
import pandas as pd
import pytest

import bold_orchard as bo
from bold_orchard.data import cells_as_rows, on_disk, pieces
from bold_orchard.data.sums_of_cells import CellSums, NumberedSums
from bold_orchard.design import engines, sweeps
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.estimation import swept

SENTENCES = {
    "slopes": ("yield = rain + soil; each tree: intercept + rain", {}),
    "crossed": ("yield = centre(rain)*pruning + centre(rain) + pruning + zscore(sun); each tree: intercept; each season: intercept", {"method": "ml"}),
    "nested": ("yield = split(rain, tree) + power(since(sun), 2); each orchard: intercept; each tree in orchard (diagonal): intercept + rain", {}),
    "numbers": ("yield = rain*sun + rain + sun + offset(age) + category(season); each tree (vary with soil): intercept", {}),
    "named": ("let wet = zscore(rescale(rain, 10)); log(big) = wet*soil + wet + soil; each tree: intercept + wet", {"baseline": {"soil": "sand"}}),
    "plain": ("yield = rain + pruning", {"df": "residual"}),
}  # fmt: skip
ON_DISK = {
    "spline": ("yield = spline(rain, 3) + soil; each tree: intercept", {}),
    "lag": ("yield = lag(rain, tree, week) + soil; each tree: intercept", {}),
    "weighted": ("yield = rain; each tree: intercept + rain", {"weights": "area"}),
    "filled": ("yield = rain + pruning; each tree: intercept", {"fill_mean": ["rain"], "where": "season != 2"}),
    "product": ("yield = rain*sun*pruning + sun; each tree: intercept", {}),
    "binomial": ("sold = rain + soil; each orchard: intercept; each tree in orchard: intercept", {"family": "binomial"}),
    "poisson": ("fruits = rain + offset(log(area)); each tree: intercept + rain", {"family": "poisson", "weights": "area"}),
    "negative": ("fruits = rain; each tree (diagonal): intercept + rain", {"family": "negative-binomial"}),
    "grades": ("grade = centre(rain) + soil; each tree: intercept", {"family": "ordinal"}),
    "no units": ("sold = rain + pruning", {"family": "binomial"}),
    "log": ("big = rain; each tree: intercept", {"link": "log"}),
    "censored": ("censored(yield, 7, 12) = rain; each tree: intercept", {}),
    "clustered": ("set of borne = rain; each tree: intercept", {"family": "beta-binomial"}),
    "points": ("sold = rain; each tree: intercept", {"family": "binomial", "points": 9}),
    "enough": ("sold = rain; each tree: intercept", {"family": "binomial", "points": "auto"}),
}  # fmt: skip


def table(rows=700):
    r = np.random.default_rng(3)
    tree = r.integers(0, 30, rows)
    soil = np.array(["clay", "sand"])[np.arange(30) % 2][tree]
    rain, sun = r.normal(4, 2, rows), r.normal(9, 2, rows)
    u = r.normal(size=(30, 2))
    y = 5 + rain + u[tree, 0] * (1 + (soil == "sand")) + 0.4 * u[tree, 1] * rain + r.normal(size=rows)
    frame = pd.DataFrame({"tree": [f"t{i}" for i in tree], "orchard": tree // 6, "season": r.integers(1, 5, rows), "rain": rain, "sun": sun,
                          "soil": soil, "pruning": r.choice(["hard", "light", "none"], rows), "age": tree % 7, "yield": y})  # fmt: skip
    frame["big"] = np.exp(frame["yield"] / 10)
    chance = 1 / (1 + np.exp(9 - frame["yield"]))
    frame = frame.assign(sold=(r.random(rows) < chance).astype(int), fruits=r.poisson(np.exp(frame["yield"] / 8)),
                         grade=np.digitize(frame["yield"] + r.normal(size=rows), [6.0, 9.0, 11.0]), area=r.uniform(0.5, 2.0, rows),
                         week=frame.groupby("tree").cumcount())  # fmt: skip
    frame["borne"] = 4 + np.arange(rows) % 5
    frame["set"] = np.minimum(np.abs(2 * frame["fruits"] - 3), frame["borne"])  # varies more than a binomial count
    frame.loc[[3, 50], "rain"] = np.nan
    frame.loc[9, "soil"] = None
    return frame


@pytest.fixture
def both(tmp_path, monkeypatch):
    """A file, and the same rows in parts that no memory could hold at once."""
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr(pieces, "LEAST", 1)
    monkeypatch.setattr(pieces, "ROWS", 70)
    monkeypatch.setattr(swept, "AT_ONCE", 150)
    frame = table()
    frame.to_parquet("whole.parquet")
    (tmp_path / "parts").mkdir()
    for k, rows in enumerate(np.array_split(np.arange(len(frame)), 4)):
        frame.iloc[rows].to_parquet(f"parts/p{k}.parquet")
    return frame


def close(a, b, at="", rel=2e-7):
    """Two documents hold the same figures."""
    if isinstance(a, dict):
        for key in a.keys() & b.keys() - {
            "notes",
            "warnings",
            "reading",
            "convergence",
            "gradient",
            "change",
            "source",
            "name",
            "names",
        }:
            close(a[key], b[key], f"{at}.{key}", rel)
    elif isinstance(a, list):
        assert len(a) == len(b), at
        for i, (x, y) in enumerate(zip(a, b)):
            close(x, y, f"{at}[{i}]", rel)
    elif isinstance(a, float) and isinstance(b, (int, float)):
        assert a == pytest.approx(b, rel=rel, abs=max(1e-9, rel / 10)), at
    else:
        assert a == b, at


@pytest.mark.few(2)
@pytest.mark.parametrize("name", SENTENCES)
def test_the_fit_and_what_follows_are_those_in_memory(both, name):
    sentence, options = SENTENCES[name]
    one, two = bo.fit(sentence, "whole.parquet", **options), bo.fit(sentence, "parts", memory=20, **options)
    assert two.to_dict()["reading"] == {"pieces": 4, "rows": 700, "engine": "pieces", "workers": 1}
    close(one.to_dict(), two.to_dict())
    for ask in (
        lambda m: m.components(),
        lambda m: m.terms(),
        lambda m: m.terms(1),
        lambda m: m.terms(2),
        lambda m: m.intervals("wald"),
    ):
        close(ask(one).to_dict(), ask(two).to_dict())
    if "pruning" in sentence:
        close(one.means("pruning", differences=True).to_dict(), two.means("pruning", differences=True).to_dict())
    if name == "slopes":
        close(one.intervals("profile").to_dict(), two.intervals("profile").to_dict())
        rows = [{r["level"]: r for r in m.groups().to_dict()["groups"][0]["rows"]} for m in (one, two)]
        for level, row in rows[0].items():
            close(row, rows[1][level])


def test_compared_kept_and_opened_again(both):
    small = bo.fit("yield = rain; each tree: intercept", "parts", memory=20, name="small")
    large = bo.fit("yield = rain + soil; each tree: intercept + rain", "parts", memory=20, name="large")
    small.save("small")
    again = bo.open_fit("small")
    close(small.to_dict(), again.to_dict())
    bigger = bo.fit("yield = rain; each tree: intercept + rain", "parts", memory=20, name="bigger")
    held = [bo.fit(m.core.result.model, "whole.parquet", name=m.core.name) for m in (small, bigger)]
    close(bo.compare(*held).to_dict()["tests"], bo.compare(again, bigger).to_dict()["tests"])
    with pytest.raises(OrchardError, match="rows"):
        bo.compare(small, large)  # soil has a gap more


@pytest.mark.few(5)
@pytest.mark.parametrize("name", ON_DISK)
def test_what_sums_do_not_answer_lies_on_disk(both, name):
    sentence, options = ON_DISK[name]
    one, two = bo.fit(sentence, "whole.parquet", **options), bo.fit(sentence, "parts", memory=20, **options)
    assert two.to_dict()["reading"] == {"pieces": 4, "rows": 700, "engine": "pieces", "workers": 1}
    assert any("laid down on disk" in n for n in two.to_dict()["notes"])
    assert two.converged and one.converged
    for ask in (lambda m: m, lambda m: m.components(), lambda m: m.terms(), lambda m: m.intervals("wald")):
        close(ask(one).to_dict(), ask(two).to_dict(), rel=5e-5)
    if "each" in sentence:
        close(one.groups().to_dict(), two.groups().to_dict(), rel=5e-5)
    if name in ("product", "points"):
        close(one.check().to_dict(), two.check().to_dict(), rel=1e-3)
    two.save("kept")
    again = bo.open_fit("kept")
    close(two.to_dict(), again.to_dict(), rel=1e-6)
    assert again.core.design.on_disk


def test_two_values_of_an_outcome_may_stand_in_different_parts(both, tmp_path):
    """Each part has one value, or two of three: only all of them together tell."""
    frame = both.sort_values("grade")
    for k, rows in enumerate(np.array_split(np.arange(700), 6)):
        (tmp_path / "sorted").mkdir(exist_ok=True)
        frame.iloc[rows].to_parquet(f"sorted/p{k}.parquet")
    assert bo.fit("grade = rain; each orchard: intercept", "sorted", memory=20).converged
    frame = both.sort_values("sold")
    for k, rows in enumerate(np.array_split(np.arange(700), 6)):
        frame.iloc[rows].to_parquet(f"sorted/p{k}.parquet")
    with pytest.raises(OrchardError, match="only the two values"):
        bo.fit("sold = rain; each orchard: intercept", "sorted", memory=20)
    assert bo.fit("sold = rain; each orchard: intercept", "sorted", memory=20, family="gaussian").converged


def test_two_and_more_parts_were_swept(both):
    made = bo.fit("sold = rain; each tree: intercept", "parts", memory=20, family="binomial")
    assert len(made.core.criterion.parts) == 5
    held = np.concatenate([levels[0] for levels in made.core.criterion.levels])
    assert sorted(held) == list(range(30)), "each tree is in one part"
    plain = bo.fit("sold = rain; each tree: intercept", "whole.parquet", family="binomial").core
    for theta in (plain.evaluation.theta, plain.evaluation.theta + 0.1):
        one, two = plain.criterion.at(theta), made.core.criterion.at(theta)
        assert two.deviance == pytest.approx(one.deviance, rel=1e-10)
        assert two.gradient == pytest.approx(one.gradient, rel=1e-6, abs=1e-6)


def test_averages_on_the_scale_of_the_outcome(both):
    options = {"family": "binomial", "effects": True, "ratios": True}
    one, two = (
        bo.fit("sold = rain + soil; each tree: intercept", d, **options, **m)
        for d, m in (("whole.parquet", {}), ("parts", {"memory": 20}))
    )
    assert one.to_dict()["average_effects"]
    close(one.to_dict(), two.to_dict(), rel=5e-5)
    with pytest.raises(UsageError, match="--effects"):
        bo.fit("yield = rain; each tree: intercept", "parts", memory=20, effects=True)


def test_crossed_units_of_counts_say_so(both, monkeypatch):
    with pytest.raises(OrchardError, match="units that cross"):
        bo.fit("fruits = rain; each tree: intercept; each season: intercept", "parts", memory=20, family="poisson")
    with pytest.raises(OrchardError, match="no column 'seasno'"):
        bo.fit("fruits = rain; each tree: intercept; each seasno: intercept", "parts", memory=20, family="poisson")
    monkeypatch.setattr(sweeps, "table_on_disk", lambda *_: pytest.fail("all rows were read before it was said"))
    with pytest.raises(OrchardError, match="units that cross"):
        bo.fit("fruits = rain; each tree: intercept; each season: intercept", "parts", memory=20, family="poisson")


def test_a_full_disk_is_one_line(both, monkeypatch):
    def no_room(self, values):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(on_disk.NumbersOnDisk, "add", no_room)
    with pytest.raises(OrchardError, match="set TMPDIR"):
        bo.fit("sold = rain; each tree: intercept", "parts", memory=20, family="binomial")


def test_whole_numbers_stay_whole_until_a_broken_one_comes():
    shelf = on_disk.NumbersOnDisk()
    shelf.add(np.array([2**60 + 1, 3]))
    assert shelf.mapped().tolist() == [2**60 + 1, 3]
    shelf.add(np.array([0.5, np.nan]))
    shelf.add(np.array([7]))
    assert shelf.mapped().dtype == float and shelf.mapped()[[1, 2, 4]].tolist() == [3.0, 0.5, 7.0]


@pytest.mark.slow
def test_rows_are_laid_down_where_a_question_needs_them(both):
    sentence = "yield = rain + soil; each tree: intercept + rain"
    one, two = bo.fit(sentence, "whole.parquet"), bo.fit(sentence, "parts", memory=20)
    two.save("kept")
    for model in (two, bo.open_fit("kept")):
        assert model.core.design.counts is not None
        close(one.check().to_dict(), model.check().to_dict(), rel=1e-6)
        close(one.draw().to_dict(), model.draw().to_dict(), rel=1e-6)
        close(one.simulate(2).to_frame().to_dict("list"), model.simulate(2).to_frame().to_dict("list"), rel=1e-6)
        ours, theirs = one.predict().to_frame(), model.predict().to_frame()
        assert len(ours) == len(theirs) == 700
        assert ours["predicted"].to_numpy(float) == pytest.approx(theirs["predicted"].to_numpy(float), nan_ok=True)


@pytest.mark.parametrize("ask", [lambda m: m.sample(), lambda m: m.power()])
def test_what_needs_rows_says_so(both, ask):
    made = bo.fit("yield = rain; each tree: intercept", "parts", memory=20)
    with pytest.raises(OrchardError, match="fitted in pieces"):
        ask(made)


@pytest.mark.parametrize("sentence, options, said", [
    ("yield = rain; each tree: intercept; within tree: exchangeable", {}, "within"),
    ("yield = rain; each tree: intercept; spread = soil", {}, "spread"),
    ("yield = rain; each tree: intercept + spread", {}, "a spread of each unit"),
    ("yield = rain; each tree: intercept; spread = known(area)", {}, "spread"), ("yield = smooth(rain); each tree: intercept", {}, "a curve"),
    ("yield = rain; each tree: smooth(rain)", {}, "a curve"), ("yield, big = rain; each tree: intercept", {}, "several outcomes"),
    ("soil = rain; each tree: intercept", {}, "'soil' is text .* --family binomial"),
    ("sold = rain; each tree: intercept", {}, "only the two values 0 and 1"), ("sold = rain; each orchard: intercept", {}, "only the two values 0 and 1"),
    ("yield = rane; each tree: intercept", {}, "did you mean 'rain'"), ("sold = rane", {"family": "binomial"}, "did you mean 'rain'"),
    ("yield = rain; each tree: intercept", {"weights": "age"}, "weights must be positive"),
])  # fmt: skip
def test_sentences_that_need_memory_are_refused(both, sentence, options, said):
    with pytest.raises(OrchardError, match=said):
        bo.fit(sentence, "parts", memory=20, **options)


def test_sizes_of_memory():
    assert [pieces.bytes_of(t) for t in ("2GB", "500 mb", "1.5g", 3_000_000)] == [
        2 * 10**9,
        5 * 10**8,
        15 * 10**8,
        3_000_000,
    ]
    for text in ("much", "2XB", "-1GB", "5kb"):
        with pytest.raises(UsageError, match="--memory"):
            pieces.bytes_of(text)


def test_a_large_text_file_is_read_in_runs(orchard, monkeypatch):
    monkeypatch.setattr(pieces, "BYTES", 20_000)
    frame = table(2000)
    frame["note"] = ['a "quoted"\ncell, of two lines'] * 2000
    path = orchard.folder / "t.csv"
    frame.to_csv(path, index=False)
    made = list(pieces.pieces_of(str(path), ["rain", "soil", "note"], [], None).tables())
    assert len(made) > 3 and sum(len(t) for t in made) == 2000
    rain = np.concatenate([t.numbers("rain") for t in made])
    assert np.array_equal(rain, frame["rain"].to_numpy(), equal_nan=True)


@pytest.mark.slow
def test_from_the_command_line(orchard):
    frame = pd.concat([table(2000)] * 40)
    frame.to_parquet(orchard.folder / "t.parquet")
    d = orchard(
        "fit", "t.parquet", "yield = rain; each tree: intercept", "--memory", "1MB", "--json", "--save", "m"
    ).json
    assert d["reading"]["engine"] == "pieces" and d["rows"]["used"] == 79_920
    assert orchard("components", "m", "--json").code == 0
    assert "--memory" in orchard("fit", "t.parquet", "yield = rain", "--memory", "lots").err
    assert "--memory" in orchard("sample", "m").err
    assert orchard("check", "m", "--quiet").code == 0


def test_rows_that_stand_for_a_cell_have_its_products():
    r = np.random.default_rng(8)
    x = r.normal(size=(3, 50)) * [[1], [100], [0]] + [[0], [5], [2]]
    key = np.repeat([4, 9], [49, 1])
    plain = np.zeros(3), np.ones(3)
    whole = CellSums(10, *plain)
    whole.add(key, list(x))
    keys, sums = whole.result()
    values, cell, counts, _ = cells_as_rows.rows_of(sums, 3)
    assert keys.tolist() == [4, 9] and counts.sum() == pytest.approx(50)
    for k, rows in ((0, slice(0, 49)), (1, slice(49, 50))):
        own = cell == k
        assert values[:, own] @ counts[own] == pytest.approx(x[:, rows].sum(axis=1))
        assert (values[:, own] * counts[own]) @ values[:, own].T == pytest.approx(x[:, rows] @ x[:, rows].T)
    for made in (
        lambda: CellSums(10, *plain),
        lambda: CellSums(10**12, *plain),
        lambda: NumberedSums(*plain),
    ):  # all cells listed, those that occur merged, a list that grows
        one, two = made(), made()
        one.add(key[:30], list(x[:, :30]))
        two.add(key[30:45], list(x[:, 30:45]))
        two.add(key[45:], list(x[:, 45:]))
        again = one.joined(two).result()
        assert np.array_equal(again[0], keys) and again[1] == pytest.approx(sums)


def test_numbers_too_far_apart_are_not_listed():
    sums = NumberedSums(np.zeros(1), np.ones(1))
    sums.add(np.array([5, -200_000, 7]), [np.array([1.0, 2.0, 4.0])])
    keys, made = sums.result()
    assert keys.tolist() == [-200_000, 5, 7] and made[1].tolist() == [2.0, 1.0, 4.0]
    with pytest.raises(OverflowError):
        sums.add(np.array([10**9]), [np.ones(1)])


@pytest.mark.slow
def test_a_cluster_says_the_same(both, monkeypatch):
    pytest.importorskip("distributed")
    for name in ("slopes", "crossed"):
        sentence, options = SENTENCES[name]
        here, there = (
            bo.fit(sentence, "parts", memory=20, **options),
            bo.fit(sentence, "parts", cluster="local:2", **options),
        )
        assert there.to_dict()["reading"] == {"pieces": 4, "rows": 700, "engine": "cluster", "workers": 2}
        close(here.to_dict(), there.to_dict())
        assert there.loglik == pytest.approx(here.loglik, rel=1e-12)  # batches differ here: workers have the usual ones


@pytest.mark.parametrize("address, said", [("tcp://127.0.0.1:9", "no scheduler answers"), ("local:none", "local:N")])
def test_clusters_that_cannot_be(both, address, said, monkeypatch):
    pytest.importorskip("distributed")
    monkeypatch.setattr(engines, "ANSWER", 1.0)
    with pytest.raises(OrchardError, match=said):
        bo.fit("yield = rain; each tree: intercept", "parts", cluster=address)


@pytest.mark.parametrize("address", ["localhost:9", "local:9999", "locally", "localhost"])
def test_an_address_that_begins_with_local_starts_no_thousands_of_workers(both, address):
    library = pytest.importorskip("distributed")
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(engines, "ANSWER", 1.0)
        patch.setattr(library, "LocalCluster", None)  # whoever starts workers fails otherwise
        with pytest.raises(OrchardError, match=r"no scheduler answers|local:N with N from 1 to"):
            bo.fit("yield = rain; each tree: intercept", "parts", cluster=address)


@pytest.mark.few(1)
@pytest.mark.parametrize("gone", ["workers", "scheduler"])
def test_a_cluster_that_goes_away_is_told_in_time(gone, monkeypatch, capfd, tmp_path):
    pytest.importorskip("distributed")
    monkeypatch.setattr(engines, "LOOK", 0.2)
    monkeypatch.setattr(engines, "PATIENCE", 1.0)
    levels = {n: logging.getLogger(n).level for n in ("distributed", "distributed.client")}
    place, quiet = tmp_path / "scheduler.json", {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    dask = [sys.executable, "-m", "dask"]
    with (
        subprocess.Popen(
            [*dask, "scheduler", "--port", "0", "--no-dashboard", "--scheduler-file", place], **quiet
        ) as scheduler,
        subprocess.Popen(
            [*dask, "worker", "--scheduler-file", place, "--no-nanny", "--no-dashboard"], **quiet
        ) as worker,
    ):
        try:
            address = address_once_there_are_workers(place)
            cluster = engines.Cluster(address)
            working = cluster.each(time.sleep, [(60.0,), (60.0,)])
            (worker if gone == "workers" else scheduler).kill()
            with pytest.raises(
                OrchardError, match=f"the {gone} of --cluster {address} went away during the fit; nothing"
            ):
                list(working)
            cluster.close()
        finally:
            worker.kill()
            scheduler.kill()
    assert "Traceback" not in capfd.readouterr().err
    assert {n: logging.getLogger(n).level for n in levels} == levels


def address_once_there_are_workers(place):
    for _ in range(300):
        time.sleep(0.1)
        if place.exists() and place.read_text().endswith("}"):
            address = json.loads(place.read_text())["address"]
            with contextlib.suppress(OrchardError):
                engines.Cluster(address).close()
                return address
    raise AssertionError("the scheduler did not start")


def test_workers_of_another_version_are_told(monkeypatch):
    from bold_orchard.design import engines

    cluster = object.__new__(engines.Cluster)
    cluster.client = type("Client", (), {"run": lambda self, f: {"one": "0.0.1"}})()
    with pytest.raises(OrchardError, match=r"0\.0\.1"):
        cluster._same_versions()


def test_the_tree_of_sums_depends_on_their_number_alone():
    from bold_orchard.design.engines import tree

    made = [tree(range(n), lambda a, b: f"({a}{b})", lambda done: None) for n in (1, 2, 3, 5)]
    assert made == [0, "(01)", "((01)2)", "(((01)(23))4)"]
