"""A saved fit taken up again answers as the fit itself would have."""

from __future__ import annotations

import json

import numpy as np
import pandas as pd
import pytest

SENTENCE = "crop = rain + sun; each tree: intercept + rain"


@pytest.fixture
def grove(quick):
    """Enough trees that the search's own Hessian serves."""
    r = np.random.default_rng(1)
    tree = r.integers(0, 6000, 40_000)
    rain, sun = r.normal(size=(2, len(tree)))
    crop = (
        1 + 0.3 * rain + r.normal(size=6000)[tree] + 0.5 * r.normal(size=6000)[tree] * rain + r.normal(size=len(tree))
    )
    pd.DataFrame({"tree": tree, "rain": rain, "sun": sun, "crop": crop}).to_csv(quick.folder / "g.csv", index=False)
    return quick


def test_degrees_of_freedom_are_those_of_the_fit(grove):
    made = grove("fit", "g.csv", SENTENCE, "--save", "m", "--json").json
    terms = {t["term"]: t["den_df"] for t in grove("terms", "m", "--json").json["tests"]}
    for row in made["fixed"][1:]:
        assert terms[row["term"]] == pytest.approx(row["df"], rel=1e-5), row["term"]


@pytest.mark.slow
def test_a_fit_without_its_hessian_is_taken_up_too(grove):
    """As fits were once saved."""
    grove("fit", "g.csv", SENTENCE, "--save", "m")
    target = grove.folder / "m.fit.json"
    document = json.loads(target.read_text())
    assert np.array(document["saved"]["hessian"]).shape == (3, 3)
    kept = grove("terms", "m", "--json").json["tests"]
    target.write_text(json.dumps(document | {"saved": document["saved"] | {"hessian": None}}))
    anew = grove("terms", "m", "--json").json["tests"]
    for one, two in zip(kept, anew):
        assert one["den_df"] == pytest.approx(two["den_df"], rel=1e-3)
        assert one["p"] == pytest.approx(two["p"], rel=1e-2) and one["value"] == pytest.approx(two["value"], rel=1e-9)


@pytest.mark.slow
def test_later_commands_load_nothing_that_reads_pieces(grove, tmp_path):
    import subprocess
    import sys

    grove("fit", "g.csv", SENTENCE, "--save", "m")
    code = "import sys; from bold_orchard.cli.main import main; main(['intervals', 'm', '--method', 'wald']); print('LOADED', *sys.modules)"
    done = subprocess.run([sys.executable, "-c", code], cwd=grove.folder, capture_output=True, text=True, check=True)
    loaded = set(done.stdout.partition("LOADED")[2].split())
    assert "bold_orchard.storage.saved_fits" in loaded
    assert not loaded & {
        "scipy.sparse",
        "scipy.optimize",
        "scipy.stats",
        "pandas",
        "matplotlib",
        "bold_orchard.design.sweeps",
    }
