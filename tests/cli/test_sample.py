"""orchard sample, as a person types it."""

from __future__ import annotations

import csv
import json

import pyarrow.parquet as pq
import pytest

from builders import groves


@pytest.fixture
def orchards(quick):
    groves(10, 5).to_csv(quick.folder / "g.csv", index=False)
    assert quick("fit", "g.csv", "yield = rain; each orchard: intercept", "--save", "a").code == 0
    assert (
        quick("fit", "g.csv", "ripe = rain; each orchard: intercept", "--family", "binomial", "--save", "b").code == 0
    )
    return quick


FEW = ("--draws", "300", "--warmup", "300", "--chains", "2")


@pytest.mark.slow
def test_document(orchards):
    done = orchards("sample", "a", *FEW, "--json", "--prior", "rain = normal(0, 2)")
    d = done.json
    assert done.code in (0, 4)
    names = [p["parameter"] for p in d["parameters"]]
    assert names == ["intercept", "rain", "sd(orchard: intercept)", "sd(residual)"]
    assert {"parameter": "rain", "law": "normal(0, 2)", "default": False} in d["priors"]
    assert [p["default"] for p in d["priors"]] == [True, False, True, True]
    assert d["chains"] == 2 and len(d["acceptance"]) == len(d["energy_fraction"]) == 2 and d["divergent"] == 0
    assert d["leave_one_out"]["expected_log_density"] < 0 and len(d["groups"][0]["rows"]) == 10
    assert {r["statistic"] for r in d["replicates"]} == {"mean", "sd", "smallest", "largest"}


@pytest.mark.slow
def test_a_tight_prior_wins_over_few_rows(orchards):
    d = orchards("sample", "a", *FEW, "--json", "--prior", "rain = normal(-3, 0.01)").json
    rain = next(p for p in d["parameters"] if p["parameter"] == "rain")
    assert rain["mean"] == pytest.approx(-3, abs=0.05) and rain["likelihood_estimate"] > 0


def test_too_few_draws_are_not_to_be_used(orchards):
    done = orchards("sample", "b", "--draws", "20", "--warmup", "60", "--chains", "2")
    assert done.code == 4 and "must NOT be used" in done.out and "--draws 40" in done.out


@pytest.mark.slow
def test_draws_are_kept_in_open_formats(orchards):
    assert orchards("sample", "a", *FEW, "--keep", "d.parquet", "--save", "one", "--figure", "t.png").code in (0, 4)
    table = pq.read_table(orchards.folder / "d.parquet")
    assert table.num_rows == 600 and table.column_names[:4] == ["chain", "draw", "intercept", "rain"]
    assert "orchard o3: intercept" in table.column_names and max(table["draw"].to_pylist()) == 300
    assert (orchards.folder / "t.png").stat().st_size > 10_000
    assert orchards("sample", "a", *FEW, "--keep", "d.csv").code in (0, 4)
    with (orchards.folder / "d.csv").open() as f:
        rows = list(csv.DictReader(f))
    assert float(rows[7]["rain"]) == pytest.approx(table["rain"].to_pylist()[7], rel=1e-12)


@pytest.mark.slow
def test_a_kept_posterior_is_printed_and_compared_again(orchards):
    orchards("sample", "a", *FEW, "--save", "one")
    assert orchards("fit", "g.csv", "yield = intercept; each orchard: intercept", "--save", "e").code == 0
    orchards("sample", "e", *FEW, "--save", "two")
    saved = json.loads((orchards.folder / "one.posterior.json").read_text())
    again = orchards("sample", "one.posterior.json", "--json", "--compare", "two").json
    assert again["parameters"] == saved["parameters"]
    (other,) = again["compared"]
    assert other["elpd_difference"] < 0 and other["se"] > 0  # rain helps
    assert "foretells rows better" in orchards("sample", "one.posterior.json", "--compare", "two").out


@pytest.mark.slow
def test_a_posterior_kept_under_the_old_keys_is_read(orchards):
    orchards("sample", "a", *FEW, "--save", "one")
    path = orchards.folder / "one.posterior.json"
    new = path.read_text()
    old = new
    for before, now in {
        "ess_bulk": "effective_bulk",
        "ess_tail": "effective_tail",
        "rhat": "r_hat",
        "energy_bfmi": "energy_fraction",
        "elpd": "expected_log_density",
        "p_loo": "effective_parameters",
    }.items():
        assert f'"{now}"' in old
        old = old.replace(f'"{now}"', f'"{before}"')
    path.write_text(old)
    assert orchards("sample", "one.posterior.json", "--json").json == json.loads(new)


@pytest.mark.few(1)
@pytest.mark.parametrize("kind", ["trace", "density", "ranks", "pairs", "replicates"])
def test_pictures(orchards, kind):
    assert orchards("sample", "a", "--draws", "40", "--warmup", "60", "--kind", kind, "--figure", "p.png").code in (
        0,
        4,
    )
    assert (orchards.folder / "p.png").stat().st_size > 10_000


def test_prior_only_looks_at_no_outcome(orchards):
    given = (
        "--prior-only",
        "--draws",
        "500",
        "--json",
        "--prior",
        "intercept = normal(100, 1)",
        "--prior",
        "rain = normal(0, 0.1)",
    )
    d = orchards(
        "sample",
        "a",
        *given,
        "--prior",
        "sd(residual) = exponential(1)",
        "--prior",
        "sd(orchard: intercept) = half-normal(1)",
    ).json
    made = {p["parameter"]: p for p in d["parameters"]}
    assert made["intercept"]["mean"] == pytest.approx(100, abs=0.2) and made["sd(residual)"]["mean"] == pytest.approx(
        1, abs=0.15
    )
    assert next(r for r in d["replicates"] if r["statistic"] == "mean")["p"] == 1.0 and d["prior_only"]


@pytest.mark.few(5)
@pytest.mark.parametrize("options, said", [
    (["--prior", "sun = normal(0, 1)"], "sun"), (["--prior", "rain = lkj(2)"], "correlations"), (["--prior", "rain = half-normal(1)"], "can"),
    (["--prior", "sd(orchard: rain) = half-normal(1)"], "no parameter"), (["--draws", "3"], "--draws"), (["--chains", "0"], "--chains"),
    (["--keep", "d.txt"], ".parquet"), (["--prior-only", "--prior", "rain = flat"], "proper law"),
])  # fmt: skip
def test_what_cannot_be_is_one_line(orchards, options, said):
    done = orchards("sample", "a", *options)
    assert done.code in (2, 3) and said in done.err and len(done.err.strip().splitlines()) == 1


def test_python_interface(orchards, monkeypatch):
    import bold_orchard as bo

    monkeypatch.chdir(orchards.folder)
    made = bo.open_fit("a").sample(chains=2, draws=100, warmup=100, seed=4)
    frame = made.to_frame()
    assert list(frame["parameter"])[:2] == ["intercept", "rain"] and "Posterior" in str(made)


@pytest.mark.slow
def test_other_commands_answer_from_kept_draws(orchards):
    """Parquet and CSV hold the same draws; pages, JSON, CSV and pictures are written from them; slips get a line."""
    kept = [
        orchards("sample", "a", *FEW, "--keep", f"d.{ending}", "--json").json for ending in ("parquet", "csv", "arrow")
    ]
    assert kept[0]["parameters"] == kept[1]["parameters"]
    made = [
        orchards("groups", "a", "--posterior", f"d.{ending}", "--json").json for ending in ("parquet", "csv", "arrow")
    ]
    assert made[0]["groups"] == made[1]["groups"] == made[2]["groups"]
    done = orchards("components", "a", "--posterior", "d.parquet", "--figure", "c.png", "--csv", "c.csv")
    assert (
        "From 600 draws of the posterior in 2 chains (d.parquet)" in done.out and (orchards.folder / "c.csv").exists()
    )
    rain = next(p for p in kept[0]["parameters"] if p["parameter"] == "rain")
    told = orchards("terms", "a", "--contrast", "rain = 1", "--posterior", "d.csv", "--json").json["contrasts"][0]
    assert told["estimate"] == pytest.approx(rain["mean"]) and told["ci"] == pytest.approx([rain["low"], rain["high"]])
    assert orchards("predict", "a", "--posterior", "d.parquet", "--csv", "p.csv").out.count("orchard o") == 12
    with (orchards.folder / "p.csv").open() as f:
        assert len(list(csv.DictReader(f))) == 50
    for arguments, code, said in (
        (("terms", "a", "--posterior", "d.csv"), 2, "--contrast"), (("groups", "b", "--posterior", "d.csv"), 3, "it is another model's posterior"),
        (("groups", "a", "--posterior", "none.csv"), 3, "there is no such file"), (("groups", "a", "--posterior", "a.posterior.json"), 2, "holds no draws"),
        (("components", "a", "--posterior", "d.csv", "--method", "profile"), 2, "--method is of the likelihood"),
    ):  # fmt: skip
        done = orchards(*arguments)
        assert done.code == code and said in done.err and "Traceback" not in done.err
