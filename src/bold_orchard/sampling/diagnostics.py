"""Whether chains can be believed: split rank-normalised R-hat, effective sizes (Vehtari, Gelman, Simpson, Carpenter & Buerkner 2021), energy."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special, stats

Array = NDArray[Any]


def split(draws: Array) -> Array:
    """Chains (c, n) cut in halves, (2 c, n // 2)."""
    half = draws.shape[1] // 2
    return np.concatenate([draws[:, :half], draws[:, -half:]])


def rank_normalised(draws: Array) -> Array:
    """Normal scores of the ranks over all chains (Blom's)."""
    ranks = stats.rankdata(draws).reshape(draws.shape)
    return np.asarray(special.ndtri((ranks - 0.375) / (draws.size + 0.25)))


def _plain_rhat(draws: Array) -> float:
    n = draws.shape[1]
    within = float(draws.var(axis=1, ddof=1).mean())
    between = n * float(draws.mean(axis=1).var(ddof=1))
    return float(np.sqrt(((n - 1) / n * within + between / n) / within)) if within > 0 else np.nan


def rhat(draws: Array) -> float:
    """The larger of the bulk and the folded one; NaN of a parameter that never moves."""
    if not np.isfinite(draws).all() or np.ptp(draws) == 0:
        return np.nan
    halves = split(draws)
    folded = np.abs(halves - np.median(halves))
    return max(_plain_rhat(rank_normalised(halves)), _plain_rhat(rank_normalised(folded)))


def _ess(draws: Array) -> float:
    """Effective size by Geyer's (1992) initial monotone sequence over all chains."""
    c, n = draws.shape
    if n < 4 or np.ptp(draws) == 0:
        return np.nan
    centred = draws - draws.mean(axis=1, keepdims=True)
    size = 1 << (2 * n - 1).bit_length()
    spectrum = np.fft.rfft(centred, size, axis=1)
    auto = np.fft.irfft(spectrum * spectrum.conj(), size, axis=1)[:, :n].real / n
    mean_var = float(auto[:, 0].mean()) * n / (n - 1)
    plus = mean_var * (n - 1) / n + (float(draws.mean(axis=1).var(ddof=1)) if c > 1 else 0.0)
    rho = 1.0 - (mean_var - auto.mean(axis=0) * n / (n - 1)) / plus
    rho[0] = 1.0
    pairs = rho[: n - n % 2].reshape(-1, 2).sum(axis=1)
    stop = np.flatnonzero(pairs < 0)
    pairs = np.minimum.accumulate(pairs[: stop[0]] if len(stop) else pairs)
    tau = max(-1.0 + 2.0 * float(pairs.sum()), 1.0 / np.log10(c * n))
    return float(c * n / tau)


def ess_bulk(draws: Array) -> float:
    """Effective draws for the middle of the distribution."""
    return _ess(rank_normalised(split(draws)))


def ess_tail(draws: Array) -> float:
    """The smaller effective size of the 5% and the 95% quantiles."""
    halves = split(draws)
    sizes = [_ess((halves <= np.quantile(halves, p)).astype(float)) for p in (0.05, 0.95)]
    return float(np.nanmin(sizes)) if np.isfinite(sizes).any() else np.nan


def bfmi(energy: Array) -> float:
    """Energy fraction of missing information (Betancourt 2016); below 0.3 the tails are explored poorly."""
    spread = float(((energy - energy.mean()) ** 2).sum())
    return float((np.diff(energy) ** 2).sum() / spread) if spread > 0 else np.nan
