"""The types that the package ships, as a consumer's own type checker sees them."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

import bold_orchard

GOOD = """
import pandas as pd
import bold_orchard as bo

frame = pd.DataFrame({"yield": [1.0, 2.0], "orchard": ["a", "b"]})
fit = bo.fit("yield = intercept; each orchard: intercept", frame, missing=["-999"], name="empty")
table: pd.DataFrame = fit.coefficients
answer = fit.means("pruning", hold={"rain": [40, 80]}, posterior="draws.parquet")
page: str = str(answer)
fit.sample(prior=["rain = normal(0, 1)"], chains=2)
known: float | None = fit.loglik
"""
BAD = {
    'bo.fit(3, frame)': "arg-type", "fit.means(4)": "arg-type", "fit.no_such_question()": "attr-defined", "x: int = fit.notes": "assignment",
    "fit.predict(confidence='wide')": "arg-type",
}  # fmt: skip


def checked(folder: Path, text: str) -> str:
    (folder / "consumer.py").write_text(text)
    done = subprocess.run([sys.executable, "-m", "mypy", "--strict", "--cache-dir", str(folder / "cache"), "consumer.py"], cwd=folder, capture_output=True, text=True)  # fmt: skip
    return done.stdout + done.stderr


@pytest.mark.slow
def test_a_consumer_s_code_is_checked(tmp_path):
    """Right use passes under --strict; each slip is found where it stands."""
    assert (Path(bold_orchard.__file__).parent / "py.typed").exists()
    assert "Success" in checked(tmp_path, GOOD)
    found = checked(tmp_path, GOOD + "\n".join(BAD) + "\n")
    lines = len(GOOD.splitlines())
    for k, code in enumerate(BAD.values(), start=1):
        assert f"consumer.py:{lines + k}: error" in found and code in found, found
    assert "Found 5 errors" in found
