"""The document of ``orchard certify``."""

from __future__ import annotations

import platform
import time
from collections.abc import Callable

import numpy as np
import scipy

from bold_orchard.certificate.problems import PROBLEMS, Check
from bold_orchard.results.certify import CertifyResult

SCHEMA = "bold-orchard/certify/1"
BROKEN = "The linear algebra of this machine does not solve what it must: nothing that is computed with it should be believed. Install NumPy and SciPy anew."


def certify(version: str, report: Callable[[int, int], None]) -> CertifyResult:
    """Solve every reference problem; a problem that breaks down counts as failed, with no digit."""
    start, made = time.monotonic(), []
    for done, problem in enumerate(PROBLEMS):
        try:
            with np.errstate(all="ignore"):
                made += list(problem())
        except Exception as e:  # whatever breaks here is a failure to report, not to hide
            name = (problem.__doc__ or problem.__name__).split(":")[0].split("(")[0].strip()
            made.append(
                Check(name, f"broke down: {type(e).__name__}", "all figures", float("nan"), float("nan"), 0.0, 1.0)
            )
        report(done + 1, len(PROBLEMS))
        if problem is PROBLEMS[0] and not all(c.passed for c in made):
            break
    passed = all(c.passed for c in made)
    sound = all(c.passed for c in made[:2])
    failed = [c for c in made if not c.passed]
    notes = [] if sound else [BROKEN]
    if sound and failed:
        notes.append(
            f"{len(failed)} of {len(made)} figures have fewer digits than they need; do not rely on this build for such models, and report it."
        )
    return CertifyResult.from_dict({
        "schema": SCHEMA, "version": version, "passed": passed, "linear_algebra": sound,
        "checks": [{"problem": c.problem, "source": c.source, "quantity": c.quantity, "exact": c.exact, "computed": c.computed,
                    "digits": round(c.digits, 1), "needed": c.needed, "passed": c.passed} for c in made],
        "versions": {"python": platform.python_version(), "numpy": np.__version__, "scipy": scipy.__version__, "machine": platform.machine(),
                     "system": platform.system()},
        "seconds": round(time.monotonic() - start, 2), "notes": notes,
    })  # fmt: skip
