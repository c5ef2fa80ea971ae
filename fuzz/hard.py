"""Random hard designs through the whole engine: `python fuzz/hard.py [COUNT] [FIRST SEED]`.

Collinear and far-off covariates, tiny and huge scales, extreme weights, separation, one row a level, over all families and
structures. Each must end in an answer that holds or in one honest line: a crash, a warning of the arithmetic, more than 20
seconds of a processor, "converged" where the slope of a dense likelihood promises more (SLOPE), or above a deviance that another of 20 starts reaches
(WORSE; TOLD where the page says that the likelihood has several maxima) is a finding, printed with its seed. UNJUDGED are those whose judge failed.
"""

from __future__ import annotations

import signal
import sys
import traceback
import warnings
from collections import Counter
from typing import Any

import numpy as np
import pandas as pd

from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.errors import OrchardError
from bold_orchard.estimation import gaussian_search, generalized_search
from bold_orchard.inference.fit import Fit, Settings, fit
from bold_orchard.reporting.pages.fit import fit_page
from judge import still_to_gain

SECONDS, STARTS, WORSE, GAIN = 20, 20, 0.01, 1e-3
KINDS = ("plain", "offset x", "near collinear", "small x", "big y", "small y", "weights", "separation", "one row per level",
         "few rows", "unbalanced", "no effect", "perfect")  # fmt: skip
FIXED = ("intercept", "x", "x + z", "x + h", "x + z + h", "x*h + x + h", "power(x, 2) + z", "spline(x, 3)", "h without intercept",
         "centre(x, g) + mean(x, g)")  # fmt: skip
RANDOM = ("", "each g: intercept", "each g: intercept + x", "each g (diagonal): intercept + x", "each g: x",
          "each g (identity): intercept + x", "each g: intercept; each h: intercept", "each g: intercept; each h in g: intercept",
          "each g: intercept; within g: ar1(t)", "within g: exchangeable", "each g (exchangeable): h", "each g: intercept; spread = x",
          "within g: unstructured(t)")  # fmt: skip
FAMILIES = (("gaussian", "identity"), ("gaussian", "identity"), ("gaussian", "identity"), ("gaussian", "log"), ("binomial", "logit"),
            ("binomial", "probit"), ("binomial", "cloglog"), ("poisson", "log"), ("negative-binomial", "log"), ("gamma", "log"),
            ("beta", "logit"), ("ordinal", "logit"))  # fmt: skip


def table_of(kind: str, family: str, r: np.random.Generator) -> pd.DataFrame:
    units = int(r.integers(4, 12))
    rows = 1 if kind == "one row per level" else int(r.integers(2, 4 if kind == "few rows" else 8))
    g = np.repeat(np.arange(units), rows)
    if kind == "unbalanced":
        g = np.sort(np.append(g, np.full(40, 0)))
    n = len(g)
    x, z = r.normal(size=n), r.normal(size=n)
    z = x + 1e-7 * z if kind == "near collinear" else z
    w = np.exp(r.normal(size=n) * (6 if kind == "weights" else 1))
    eta = 0.5 * x + r.normal(size=units)[g] * (0.0 if kind == "no effect" else 1.0)
    eta = eta + (30.0 * np.sign(x) if kind == "separation" else 0.0)
    noise = 1e-9 if kind == "perfect" else 1.0
    y: Any = eta + noise * r.normal(size=n)
    if (family == "gaussian" and r.random() < 0.3) or family == "gamma":
        y = np.exp(np.clip(0.3 * y, -20, 20))
    elif family == "binomial":
        y = (r.random(n) < 1 / (1 + np.exp(-np.clip(eta, -30, 30)))).astype(int)
    elif family in ("poisson", "negative-binomial"):
        y = r.poisson(np.exp(np.clip(eta, -5, 5)))
    elif family == "beta":
        y = np.clip(1 / (1 + np.exp(-np.clip(y, -30, 30))), 1e-6, 1 - 1e-6)
    elif family == "ordinal":
        y = np.digitize(y, [-1.0, 0.0, 1.0])
    x = x + 10.0 ** r.integers(3, 13) if kind == "offset x" else x * 1e-60 if kind == "small x" else x
    if family == "gaussian":
        y = y * {"big y": 1e30, "small y": 1e-30}.get(kind, 1.0)
    time = np.concatenate([np.arange(np.sum(g == j)) for j in range(units)])
    h = r.integers(0, 3, n)
    return pd.DataFrame(
        {"g": [f"g{i}" for i in g], "h": [f"h{i}" for i in h], "x": x, "z": z, "t": time, "w": w, "y": y}
    )


def case(seed: int) -> tuple[str, str, Table, Settings]:
    r = np.random.default_rng(seed)
    kind, (family, link) = KINDS[r.integers(len(KINDS))], FAMILIES[r.integers(len(FAMILIES))]
    fixed, random = FIXED[r.integers(len(FIXED))], RANDOM[r.integers(len(RANDOM))]
    frame = table_of(kind, family, r)
    options = Options(
        family=family,
        link=link,
        force=bool(r.random() < 0.4),
        weights="w" if kind == "weights" or r.random() < 0.1 else None,
    )
    settings = Settings(method="ml" if r.random() < 0.4 else "reml", options=options)
    return kind, f"y = {fixed}" + (f"; {random}" if random else ""), Table(frame, "t.csv", len(frame)), settings


def best_elsewhere(made: Fit, seed: int, starts: int) -> float:
    """The least deviance that searches from random starts reach; a start from which there is no way counts for nothing."""
    r, best, c = np.random.default_rng(seed + 10**6), np.inf, made.criterion
    for _ in range(starts):
        theta = made.evaluation.theta.copy()
        size = np.exp(r.normal(scale=1.5)) * np.exp(r.normal(size=len(theta)) * 0.7)
        at = slice(None) if c.profiled else c.theta
        theta[at] = np.where(c.bounded[at], size[at], r.normal(size=len(theta[at])))
        try:
            if c.profiled:
                theta[c.phi] = made.evaluation.theta[c.phi]
                found: Any = gaussian_search.search(c, theta, made.settings.search)
            else:
                found = generalized_search.search(c, theta, made.settings.search, None)
        except (OrchardError, np.linalg.LinAlgError):
            continue
        best = min(best, found.point.deviance) if found.converged else best
    return best


def late(*_: object) -> None:
    raise TimeoutError


def trouble(seed: int, starts: int = STARTS) -> str | None:
    """What is wrong with the answer to one case, or None."""
    kind, sentence, table, settings = case(seed)
    what = f"{seed} {kind} | {sentence} | {settings.options.family} {settings.options.link} {settings.method}" + (
        " force" if settings.options.force else ""
    ) + (" weights" if settings.options.weights else "")  # fmt: skip
    signal.signal(signal.SIGPROF, late)
    signal.setitimer(signal.ITIMER_PROF, SECONDS)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            made = fit(sentence, table, settings)
            fit_page(made.result)
        signal.setitimer(signal.ITIMER_PROF, 0)
    except OrchardError:
        return None
    except TimeoutError:
        return f"SLOW {what}"
    except Exception as e:
        where = traceback.extract_tb(e.__traceback__)[-1]
        return f"CRASH {what}: {type(e).__name__}: {e} at {where.filename.rsplit('/', 1)[-1]}:{where.lineno}"
    finally:
        signal.setitimer(signal.ITIMER_PROF, 0)
    if not made.converged or not len(made.evaluation.theta):
        return None
    try:
        signal.setitimer(signal.ITIMER_PROF, 120)
        left = still_to_gain(made)
        if left is not None and not left < GAIN:
            return f"SLOPE {what}: {left:.2g} still to gain"
        best = best_elsewhere(made, seed, starts)
    except (OrchardError, TimeoutError, np.linalg.LinAlgError) as e:
        return f"UNJUDGED {what}: {type(e).__name__}"
    finally:
        signal.setitimer(signal.ITIMER_PROF, 0)
    told = made.evaluation.deviance
    several = any(getattr(w, "code", "") == "several maxima" for w in made.result["warnings"])
    return f"{'TOLD' if several else 'WORSE'} {what}: {told:.6f}, elsewhere {best:.6f}" if best < told - WORSE else None


def main() -> int:
    count, first = (int(v) for v in (*sys.argv[1:], *("200", "0")[len(sys.argv) - 1 :]))
    seen: Counter[str] = Counter()
    for seed in range(first, first + count):
        found = trouble(seed)
        seen[found.split(" ")[0] if found else "fine"] += 1
        if found:
            print(found, flush=True)
    print(dict(seen))
    return 1 if set(seen) - {"fine", "TOLD", "UNJUDGED"} else 0


if __name__ == "__main__":
    sys.exit(main())
