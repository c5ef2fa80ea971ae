"""The same likelihood where the rows are too many for memory: a sum over parts that hold whole levels of the top unit.

Parts lie on disk and are taken up one after the other; every evaluation is one sweep over them. All have one standard of their columns,
so that the parameters mean the same in each.
"""

from __future__ import annotations

import mmap
import pickle
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import pairwise
from typing import Any, BinaryIO

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.arrays import RandomUnit
from bold_orchard.crossproducts.elimination import Eliminated
from bold_orchard.crossproducts.stages import CrossProducts
from bold_orchard.crossproducts.standardise import Standard
from bold_orchard.design.engines import engine_here
from bold_orchard.likelihood.laplace.criterion import Laplace
from bold_orchard.likelihood.laplace.layout import Effects, Layout
from bold_orchard.likelihood.laplace.point import LaplacePoint
from bold_orchard.likelihood.prediction_error import Column, ManyParts, of_coefficients, of_effects
from bold_orchard.likelihood.quadrature import Quadrature

Array = NDArray[Any]
WORKING_BYTES = 200  # of a row while a part is at hand


class Stored:
    """Objects with arrays, kept in one nameless file each and mapped when they are taken up."""

    def __init__(self) -> None:
        self.held: list[tuple[bytes, BinaryIO, list[int]]] = []

    def __len__(self) -> int:
        return len(self.held)

    def add(self, item: Any) -> None:
        """Raises OSError where the disk is full."""
        arrays: list[pickle.PickleBuffer] = []
        made = pickle.dumps(item, protocol=5, buffer_callback=arrays.append)
        file: BinaryIO = tempfile.TemporaryFile()  # noqa: SIM115 - it lives as long as what lies in it
        lengths = []
        for a in arrays:
            raw = a.raw()
            file.write(raw)
            file.write(b"\0" * (-len(raw) % 64))
            lengths.append(len(raw))
        file.flush()
        self.held.append((made, file, lengths))

    def __getitem__(self, k: int) -> Any:
        made, file, lengths = self.held[k]
        ends = np.cumsum([0, *(n + -n % 64 for n in lengths)])
        if not ends[-1]:
            return pickle.loads(made)
        view = memoryview(mmap.mmap(file.fileno(), int(ends[-1]), access=mmap.ACCESS_READ))
        return pickle.loads(made, buffers=[view[a : a + n] for (a, _), n in zip(pairwise(ends), lengths)])


@dataclass(frozen=True)
class Rows:
    """What is known of all rows together: their standard, their units, how they nest."""

    frame: CrossProducts
    chain: list[int]

    @property
    def standard(self) -> Standard:
        return self.frame.standard

    @property
    def units(self) -> tuple[RandomUnit, ...]:
        return self.frame.units

    @property
    def x(self) -> list[int]:
        """Working columns, by number."""
        return self.standard.x


@dataclass(frozen=True)
class Swept(Layout):
    """parameters -> ``SweptPoint``; ``parts`` hold a ``Laplace`` each, ``levels`` which levels of every unit (per part) it has."""

    rows: Any
    parts: Stored | None = None
    levels: tuple[tuple[Array, ...], ...] = ()
    points: int = 1

    def with_points(self, points: int) -> Swept:
        """The same with every level's integral taken by that many points."""
        return replace(self, points=points)

    def part(self, k: int) -> Laplace:
        """The likelihood of one part."""
        assert self.parts is not None
        part: Laplace = self.parts[k]
        return part if self.points == 1 else Quadrature.of(part, self.points)

    def each_part(self) -> Iterator[Laplace]:
        """One after the other."""
        return (self.part(k) for k in range(len(self.levels)))

    def over_parts(self, work: Callable[[int], Any]) -> Iterator[Any]:
        """``work`` of each part's number, in their order; on all processors where there is much to do."""
        size = self.rows.frame.n * WORKING_BYTES
        return engine_here(len(self.levels), size).each(work, [(k,) for k in range(len(self.levels))])

    def at(self, parameters: Array, near: SweptPoint | None = None, close: float | None = None) -> SweptPoint:
        """One sweep; the mode of every part is sought from that of ``near``."""
        theta = np.asarray(parameters, dtype=float)

        def work(k: int) -> tuple[float, Array, Modes]:
            part = self.part(k)
            with np.errstate(all="ignore"):
                mode = part.mode(theta, None if near is None else near.mode.v[k], close or part.close)
                point = part.made(part, theta, mode)
                return point.deviance, point.gradient, Modes([mode.v], mode.close)

        deviances, gradients, modes = zip(*self.over_parts(work))
        held = Modes([v for m in modes for v in m.v], max(m.close for m in modes))
        return SweptPoint(self, theta, float(np.sum(deviances)), np.sum(gradients, axis=0), held)


@dataclass(frozen=True)
class Modes:
    """The modes of all parts (``v``, per unit (k, levels)), and how close they were sought."""

    v: list[Effects]
    close: float


class SweptPoint(LaplacePoint):
    """Sums of all parts at one point."""

    criterion: Any
    mode: Any
    deviance: Any
    gradient: Any

    def __init__(self, criterion: Swept, theta: Array, deviance: float, gradient: Array, mode: Modes) -> None:
        self.criterion, self.theta, self.mode, self._known = criterion, theta, mode, None
        self.__dict__["deviance"] = deviance if np.isfinite(deviance) else np.inf
        self.__dict__["gradient"] = gradient

    def point(self, k: int) -> LaplacePoint:
        """The point of one part, its mode as it was found."""
        part = self.criterion.part(k)
        with np.errstate(all="ignore"):
            made: LaplacePoint = part.made(part, self.theta, part.mode(self.theta, self.mode.v[k], self.mode.close))
        return made

    def total(self, of: Callable[[LaplacePoint], Any]) -> Any:
        """The sum over the parts of what ``of`` says of each."""
        return np.sum(list(self.criterion.over_parts(lambda k: of(self.point(k)))), axis=0)

    @cached_property
    def curvature(self) -> Array:
        """The sum over the parts of their own."""
        beside = np.zeros((self.criterion.p, self.criterion.p))
        return np.asarray(self.total(lambda point: point.curvature_beside(beside)))

    def along(self, i: int) -> Callable[[float], Any]:
        return lambda h: Slope(self.total(lambda point: point.along(i)(h).gradient))

    @cached_property
    def leverage(self) -> float:
        return float(self.total(lambda point: point.leverage))

    @cached_property
    def xx(self) -> Array:
        """X'H^-1 X of all parts, (p, p)."""
        p = self.criterion.p
        return np.asarray(self.total(lambda point: point.joint.w[:p, :p]))

    @cached_property
    def joint(self) -> Any:
        return PartsWithX(self)

    @property
    def observed(self) -> bool:
        return all(self.criterion.over_parts(lambda k: self.point(k).observed))

    def effects(self, f: int) -> tuple[Array, Array]:
        return self._effects[f]

    @cached_property
    def _effects(self) -> list[tuple[Array, Array]]:
        """Of every unit; the uncertainty of b is that of all parts together."""
        c = self.criterion
        inverse = np.linalg.inv(self.xx) if c.p else np.zeros((0, 0))
        units = c.products.units
        out = [(np.zeros((u.levels, u.size)), np.zeros((u.levels, u.size, u.size))) for u in units]

        def work(k: int) -> list[tuple[Array, Array]]:
            point = self.point(k)
            return [point.effects_beside(f, inverse) for f in range(len(units))]

        for present, own in zip(c.levels, c.over_parts(work)):
            for f, (effects, covariance) in enumerate(own):
                out[f][0][present[f]], out[f][1][present[f]] = effects, covariance
        return out


class PartsWithX(ManyParts):
    """The working linear models of all parts, eliminated: sums by level, which are few beside the rows."""

    def __init__(self, point: SweptPoint) -> None:
        self.point = point

    @cached_property
    def parts(self) -> list[Eliminated]:
        return [self.point.point(k).joint for k in range(len(self.point.criterion.levels))]

    def error_variance(self, x: Array, columns: list[Column]) -> Array:
        out, rest = np.zeros(x.shape[1]), x.copy()
        for present, e in zip(self.point.criterion.levels, self.parts):
            own, mine = [], np.zeros(x.shape[1], dtype=bool)
            for f, level, z in columns:
                place = np.minimum(np.searchsorted(present[f], level), len(present[f]) - 1)
                here = (present[f][place] == level) & z.any(axis=0)
                own.append((f, place, np.where(here, z, 0.0)))
                mine |= here
            rows = np.flatnonzero(mine)
            if len(rows):
                some = [(f, place[rows], z[:, rows]) for f, place, z in own]
                added, left = of_effects(e, np.zeros((len(x), len(rows))), some)
                out[rows] += added
                rest[:, rows] += left
        return out + of_coefficients(self.point.xx, rest)


@dataclass(frozen=True)
class Slope:
    """A point of which only the gradient was asked."""

    gradient: Array
