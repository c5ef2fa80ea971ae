"""A structure with variances and correlations of its own for each level of a column that is constant in the unit."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.covariance.residuals.base import Bands, RowCovariance
from bold_orchard.own_parameter import OwnParameter

Array = NDArray[Any]


class ByLevel(RowCovariance):
    """R of the rows at ``rows[l]`` is exp(2 delta_l) times that of ``parts[l]``, delta 0 for the first level.

    phi holds that of every part in turn, then delta of the levels after the first. Units lie in one level each, so that pairs of rows keep
    their distance in the order of all rows.
    """

    def __init__(
        self, column: str, levels: Sequence[str], parts: Sequence[RowCovariance], rows: Sequence[Array]
    ) -> None:
        self.column, self.levels, self.parts, self.rows = column, tuple(levels), tuple(parts), tuple(rows)
        self.one_variance, self.n = False, int(sum(len(r) for r in rows))
        self.one_correlation = False
        ends = np.cumsum([0, *(len(p.start) for p in parts)])
        self.places = [slice(int(a), int(b)) for a, b in itertools.pairwise(ends)]
        more = len(parts) - 1
        self.bounded = np.concatenate([*(p.bounded for p in parts), np.zeros(more, dtype=bool)])
        self.start = np.concatenate([*(p.start for p in parts), np.zeros(more)])
        self.classes, self.sizes, self.first = [], [], []
        for offset in range(max(len(p.classes) for p in parts)):
            classes, total, first = np.full(self.n, -1), 0, []
            for part, at in zip(parts, rows):
                first.append(total)
                if offset < len(part.classes):
                    own = part.classes[offset]
                    classes[at] = np.where(own >= 0, own + total, -1)
                    total += part.sizes[offset]
            self.classes.append(classes)
            self.sizes.append(total)
            self.first.append(first)
        self._units()

    def _units(self) -> None:
        """Of structures that use the totals of units: where these start among all rows, and their classes."""
        if self.parts[0].unit_starts is None:
            return
        starts: list[Array] = []
        classes: list[Array] = []
        total = 0
        for part, at in zip(self.parts, self.rows):
            assert part.unit_starts is not None and part.unit_classes is not None
            starts.append(at[part.unit_starts])
            classes.append(part.unit_classes + total)
            total += part.unit_size
        order = np.argsort(np.concatenate(starts))
        self.unit_starts, self.unit_classes = np.concatenate(starts)[order], np.concatenate(classes)[order]
        self.unit_size = total

    def each(self, phi: Array) -> Iterator[tuple[int, RowCovariance, Array, slice, float]]:
        """Each level's place, structure, own phi, where that stands, and delta."""
        delta = np.append(0.0, phi[self.places[-1].stop : self.places[-1].stop + len(self.parts) - 1])
        for k, (part, at) in enumerate(zip(self.parts, self.places)):
            yield k, part, phi[at], at, float(delta[k])

    def at(self, phi: Array) -> Bands:
        n_phi = len(self.start)
        values = [np.zeros(size) for size in self.sizes]
        slopes = [np.zeros((n_phi, size)) for size in self.sizes]
        totals = None if self.unit_starts is None else np.zeros(self.unit_size)
        d_totals = None if totals is None else np.zeros((n_phi, self.unit_size))
        log_det, d_log_det, unit = 0.0, np.zeros(n_phi), 0
        for k, part, own, at, delta in self.each(phi):
            bands, shrunk, turn = part.at(own), np.exp(-2.0 * delta), self.places[-1].stop + k - 1
            for offset, (value, slope) in enumerate(zip(bands.values, bands.slopes)):
                there = slice(self.first[offset][k], self.first[offset][k] + len(value))
                values[offset][there] = shrunk * value
                slopes[offset][at, there] = shrunk * slope
                if k:
                    slopes[offset][turn, there] = -2.0 * shrunk * value
            if (
                totals is not None
                and d_totals is not None
                and bands.totals is not None
                and bands.totals_slopes is not None
            ):
                there = slice(unit, unit + part.unit_size)
                totals[there], d_totals[at, there] = shrunk * bands.totals, shrunk * bands.totals_slopes
                if k:
                    d_totals[turn, there] = -2.0 * totals[there]
                unit = there.stop
            size = len(self.rows[k])
            log_det += bands.log_det + 2.0 * delta * size
            d_log_det[at] = bands.log_det_slope
            if k:
                d_log_det[turn] = 2.0 * size
        return Bands(values, slopes, log_det, d_log_det, totals, d_totals)

    def lost(self, phi: Array) -> NDArray[np.bool_]:
        out = np.zeros(len(phi), dtype=bool)
        for _, part, own, at, _ in self.each(phi):
            out[at] = part.lost(own)
        return out

    def edges(self, phi: Array) -> list[Array]:
        out = []
        for _, part, own, at, _ in self.each(phi):
            for moved in part.edges(own):
                there = phi.copy()
                there[at] = moved
                out.append(there)
        return out

    def variance(self, phi: Array, sigma2: float) -> float:
        """On average over the rows."""
        made = [
            len(self.rows[k]) * part.variance(own, sigma2 * np.exp(2.0 * d)) for k, part, own, _, d in self.each(phi)
        ]
        return float(sum(made) / self.n)

    def covariance_of_labels(self, phi: Array, sigma2: float) -> Array:
        blocks = [
            part.covariance_of_labels(own, sigma2 * float(np.exp(2.0 * d))) for _, part, own, _, d in self.each(phi)
        ]
        size, at = sum(len(b) for b in blocks), 0
        out = np.zeros((size, size))
        for block in blocks:
            out[at : at + len(block), at : at + len(block)] = block
            at += len(block)
        return out

    @property
    def own(self) -> tuple[OwnParameter, ...]:
        return tuple(
            _moved(own, level, at) for part, level, at in zip(self.parts, self.levels, self.places) for own in part.own
        )

    def reported(self, phi: Array) -> tuple[Array, Array, float, Array]:
        values, slopes, bend, jacobian = [np.zeros(0)], [np.zeros((0, len(phi)))], np.zeros(len(phi)), 0.0
        for _, part, own, at, _ in self.each(phi):
            made, turn, more, curve = part.reported(own)
            wide = np.zeros((len(made), len(phi)))
            wide[:, at] = turn
            values.append(made)
            slopes.append(wide)
            bend[at] = curve
            jacobian += more
        return np.concatenate(values), np.concatenate(slopes), jacobian, bend

    def dense(self, phi: Array) -> Array:
        out = np.zeros((self.n, self.n))
        for k, part, own, _, delta in self.each(phi):
            out[np.ix_(self.rows[k], self.rows[k])] = np.exp(2.0 * delta) * part.dense(own)
        return out

    def colour(self, phi: Array, white: Array) -> Array:
        out = np.empty_like(white)
        for k, part, own, _, delta in self.each(phi):
            out[self.rows[k]] = np.exp(delta) * part.colour(own, white[self.rows[k]])
        return out

    def whiten(self, phi: Array, values: Array) -> Array:
        out = np.empty_like(values)
        for k, part, own, _, delta in self.each(phi):
            out[self.rows[k]] = np.exp(-delta) * part.whiten(own, values[self.rows[k]])
        return out

    def scale(self, phi: Array) -> Array:
        out = np.empty(self.n)
        for k, part, own, _, delta in self.each(phi):
            out[self.rows[k]] = np.exp(delta) * part.scale(own)
        return out

    def parameters(self, phi: Array, sigma2: float) -> dict[str, Any]:
        levels = []
        for k, part, own, _, delta in self.each(phi):
            mine = sigma2 * float(np.exp(2.0 * delta))
            levels.append(
                {
                    "level": self.levels[k],
                    "variance": part.variance(own, mine),
                    "parameters": part.parameters(own, mine),
                }
            )
        return {"by": self.column, "levels": levels}


class Absent(RowCovariance):
    """A structure over no rows: its parameters are those of ``like``, and nothing depends on them."""

    def __init__(self, like: RowCovariance) -> None:
        self.like, self.bounded, self.start = like, like.bounded, like.start
        self.classes, self.sizes = [], []
        if like.unit_starts is not None:
            self.unit_starts = self.unit_classes = np.zeros(0, dtype=np.intp)

    @property
    def own(self) -> tuple[OwnParameter, ...]:
        return self.like.own

    def at(self, phi: Array) -> Bands:
        nothing = None if self.unit_starts is None else np.zeros(0)
        return Bands([], [], 0.0, np.zeros(len(phi)), nothing, None if nothing is None else np.zeros((len(phi), 0)))

    def variance(self, phi: Array, sigma2: float) -> float:
        return self.like.variance(phi, sigma2)

    def covariance_of_labels(self, phi: Array, sigma2: float) -> Array:
        return self.like.covariance_of_labels(phi, sigma2)

    def reported(self, phi: Array) -> tuple[Array, Array, float, Array]:
        return self.like.reported(phi)

    def parameters(self, phi: Array, sigma2: float) -> dict[str, Any]:
        return self.like.parameters(phi, sigma2)

    def dense(self, phi: Array) -> Array:
        return np.zeros((0, 0))

    def colour(self, phi: Array, white: Array) -> Array:
        return white

    def whiten(self, phi: Array, values: Array) -> Array:
        return values


def _moved(own: OwnParameter, level: str, at: slice) -> OwnParameter:
    """A parameter of one level's structure among those of all levels."""

    def value(entries: Array) -> float:
        return own.at(entries[at])

    return replace(own, name=f"{own.name}[{level}]", meaning=f"{own.meaning}, {level}", symbol=f"{own.symbol}^{{\\text{{{level}}}}}",
                   place=own.place + at.start, value=None if own.value is None else value)  # fmt: skip
