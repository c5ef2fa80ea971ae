"""The same likelihood where the rows are too many for memory: a sum over parts that hold whole levels of the top unit.

Parts lie on disk and are taken up one after the other; every evaluation is one sweep over them. All have one standard of their columns,
so that the parameters mean the same in each.
"""

from __future__ import annotations

import mmap
import pickle
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import cached_property
from itertools import pairwise
from typing import Any, BinaryIO

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.arrays import RandomUnit
from bold_orchard.crossproducts.stages import CrossProducts
from bold_orchard.crossproducts.standardise import Standard
from bold_orchard.frozen import Frozen, frozen
from bold_orchard.likelihood.laplace.criterion import Laplace
from bold_orchard.likelihood.laplace.layout import Effects, Layout
from bold_orchard.likelihood.laplace.point import LaplacePoint
from bold_orchard.likelihood.quadrature import Quadrature

Array = NDArray[Any]


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


@frozen
class Rows(Frozen):
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


@frozen
class Swept(Layout):
    """parameters -> ``SweptPoint``; ``parts`` hold a ``Laplace`` each, ``levels`` which levels of every unit (per part) it has."""

    rows: Any
    parts: Stored | None = None
    levels: tuple[tuple[Array, ...], ...] = ()
    points: int = 1

    def with_points(self, points: int) -> Swept:
        """The same with every level's integral taken by that many points."""
        return replace(self, points=points)

    def each_part(self) -> Iterator[Laplace]:
        """The likelihood of one part after the other."""
        assert self.parts is not None
        for k in range(len(self.parts)):
            part: Laplace = self.parts[k]
            yield part if self.points == 1 else Quadrature.of(part, self.points)

    def at(self, parameters: Array, near: SweptPoint | None = None, close: float | None = None) -> SweptPoint:
        """One sweep; the mode of every part is sought from that of ``near``."""
        theta = np.asarray(parameters, dtype=float)
        deviance, gradient, modes, longest = 0.0, np.zeros(len(theta)), [], 0.0
        for k, part in enumerate(self.each_part()):
            with np.errstate(all="ignore"):
                mode = part.mode(theta, None if near is None else near.mode.v[k], close or part.close)
                point = part.made(part, theta, mode)
                deviance += point.deviance
                gradient += point.gradient
            modes.append(mode.v)
            longest = max(longest, mode.close)
        return SweptPoint(self, theta, float(deviance), gradient, Modes(modes, longest))


@frozen
class Modes(Frozen):
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

    def each_point(self) -> Iterator[LaplacePoint]:
        """The point of each part, its mode as it was found."""
        for k, part in enumerate(self.criterion.each_part()):
            with np.errstate(all="ignore"):
                yield part.made(part, self.theta, part.mode(self.theta, self.mode.v[k], self.mode.close))

    @cached_property
    def curvature(self) -> Array:
        """The sum over the parts of their own."""
        total = np.zeros((len(self.theta), len(self.theta)))
        for point in self.each_point():
            total += point.curvature_beside(np.zeros((self.criterion.p, self.criterion.p)))
        return total

    def along(self, i: int) -> Callable[[float], Any]:
        def moved(h: float) -> Slope:
            return Slope(np.sum([point.along(i)(h).gradient for point in self.each_point()], axis=0))

        return moved

    @cached_property
    def leverage(self) -> float:
        return sum(point.leverage for point in self.each_point())

    def effects(self, f: int) -> tuple[Array, Array]:
        return self._effects[f]

    @cached_property
    def _effects(self) -> list[tuple[Array, Array]]:
        """Of every unit; the uncertainty of b is that of all parts together."""
        c = self.criterion
        total = np.zeros((c.p, c.p))
        for point in self.each_point():
            total += point.with_x.w[: c.p, : c.p]
        inverse = np.linalg.inv(total) if c.p else total
        units = c.products.units
        out = [(np.zeros((u.levels, u.size)), np.zeros((u.levels, u.size, u.size))) for u in units]
        for point, present in zip(self.each_point(), c.levels):
            for f in range(len(units)):
                effects, covariance = point.effects_beside(f, inverse)
                out[f][0][present[f]], out[f][1][present[f]] = effects, covariance
        return out


@frozen
class Slope(Frozen):
    """A point of which only the gradient was asked."""

    gradient: Array
