"""The mode of the units' effects given the parameters: Newton's method for all units at once."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.crossproducts.by_level import Piece
from bold_orchard.crossproducts.elimination import Eliminated, eliminate
from bold_orchard.crossproducts.stages import CrossProducts
from bold_orchard.crossproducts.substitution import scores
from bold_orchard.families.base import Family
from bold_orchard.likelihood.laplace.layout import Effects, Layout

Array = NDArray[Any]
MOST_INNER = 60  # Newton steps; half a dozen are usual
MOST_IDLE = 4  # steps that do not shrink, after which the mode is as close as rounding lets it be
MANY_ROWS = 20_000  # from which a step too short to matter is foreseen and not made
LEFT = 0.1  # of the step that counts as none, what is foreseen to be left
NEAR = 0.1  # step below which the quadratic model of f holds without a check


@dataclass(frozen=True)
class Mode:
    """The inner minimum at one point: effects ``v`` per unit (k, levels), the rows' derivatives there (l itself NaN where it
    was not asked for), and how close it was sought."""

    v: Effects
    eta: Array
    rows: tuple[Array, ...]
    products: CrossProducts
    eliminated: Eliminated
    close: float


@dataclass(frozen=True)
class Look:
    """The rows at some effects: products that give a Newton step, whether all weights were the observed ones, so that what is left to go is of
    the order of the step's square, and f of each independent group, if it was asked for."""

    products: CrossProducts
    observed: bool
    f: Array | None


@dataclass(frozen=True)
class ModeFinder(Layout):
    """The layout and, for given parameters, the mode."""

    def mode(self, parameters: Array, start: Effects | None, close: float) -> Mode:
        """Newton's method for all units at once, steps halved unit by unit where they do not lower f.

        With ``close`` infinite the effects ``start`` are taken as they are.
        """
        factors, extra, fixed = self.factors(parameters), parameters[self.extra], self.linear(parameters)
        v = start or {f: np.zeros((len(t), self.rows.units[f].levels)) for f, t in enumerate(factors)}
        u = self.moved(factors, v)
        near, last, idle = False, np.inf, 0
        many = self.rows.frame.n > MANY_ROWS
        looks = MOST_INNER if factors and np.isfinite(close) else 0
        look = self._look(fixed, u, extra, True, None if start else v) if looks else None
        for _ in range(looks):
            assert look is not None
            kept, _ = scores(eliminate(look.products, factors), np.ones(1))
            target = self.unscored(look.products, factors, kept)
            step = {f: target[f] - v[f] for f in v}
            longest = max(float(np.abs(d).max()) for d in step.values())
            if not np.isfinite(longest):
                raise np.linalg.LinAlgError("the inner step does not exist")
            near, idle = longest < NEAR, idle + 1 if longest > 0.7 * last else 0
            last = longest
            if near and idle > MOST_IDLE:  # steps of rounding only
                break
            if near:  # so near that the quadratic model holds
                v, u = target, self.moved(factors, target)
                if longest < close or (many and look.observed and longest**2 < LEFT * close):
                    break
                look = self._look(fixed, u, extra, False)
            else:
                found = self._halved(factors, extra, fixed, v, step, look)
                if found is None:  # no part of the step lowers f: as close as rounding lets it be
                    break
                v, u, look = found
        eta, rows = np.empty_like(fixed), self.blank(fixed)
        followed = bool(factors) and not np.isfinite(close)

        def source(at: slice, piece: Piece) -> tuple[Array, Array]:
            family = self.pieces[at.start]
            np.add(fixed[..., at], self.rows.within(piece, u), out=eta[..., at])
            if followed:  # only slopes are asked for there
                made: tuple[Any, ...] = (np.nan, *family.higher(eta[..., at], extra))
            else:
                made = family.derivatives(eta[..., at], extra)
            for row, values in zip(rows, made):
                row[..., at] = values
            return -rows[2][..., at], rows[1][..., at]

        products = self.rows.made_by(source)
        return Mode(v, eta, tuple(rows), products, eliminate(products, factors), close)

    @cached_property
    def pieces(self) -> dict[int, Family]:
        """The family over the rows of each piece, by its first row."""
        return {
            rows.start: self.family.on(self.family.data.take(rows))
            for rows in (piece.rows for piece in self.rows.pieces)
        }

    def _look(self, fixed: Array, u: Effects, extra: Array, far: bool, v: Effects | None = None) -> Look:
        """The rows where the effects are u = T v, ``far`` from the end by expected weights where the observed are not positive; with ``v`` also f
        there."""
        replaced: list[slice] = []
        value = None if v is None else np.empty(self.rows.frame.n)

        def source(at: slice, piece: Piece) -> tuple[Array, Array]:
            family, within = self.pieces[at.start], self.rows.within(piece, u)
            eta = fixed[..., at] + within
            if value is not None:
                value[at] = family.value(eta, extra)
            d1, d2 = family.slopes(eta, extra)
            weight = np.negative(d2)
            if far and not self.positive(weight):
                replaced.append(at)
                weight = self.mended(weight, family, eta, extra)
            response = self.bend(weight, within)
            response += d1
            return weight, response

        products = self.rows.made_by(source)
        return Look(products, not replaced, None if v is None or value is None else self._objective(value, v))

    def _halved(
        self, factors: list[Array], extra: Array, fixed: Array, v: Effects, step: Effects, here: Look
    ) -> tuple[Effects, Effects, Look] | None:
        """v after the step, halved in each independent group until f falls there, T v, and the rows there; None where it never does."""
        before = here.f if here.f is not None else self._look(fixed, self.moved(factors, v), extra, True, v).f
        assert before is not None
        part = np.ones(len(before))
        for _ in range(30):
            trial = {f: v[f] + step[f] * part[self._groups[1][f]] for f in step}
            there = self.moved(factors, trial)
            look = self._look(fixed, there, extra, True, trial)
            assert look.f is not None
            worse = ~(look.f <= before + 1e-10 * (1.0 + np.abs(before)))
            if not worse.any():
                return trial, there, look
            part = part * np.where(worse, 0.5, 1.0)
        return None

    @cached_property
    def _groups(self) -> tuple[Array, dict[int, Array]]:
        """Rows' independent group (the coarsest unit of the chain; one group where units cross), and levels' group."""
        rows = self.rows
        if rows.frame.tails or not rows.chain:
            return np.zeros(rows.frame.n, dtype=np.intp), {
                f: np.zeros(u.levels, dtype=np.intp) for f, u in enumerate(rows.units)
            }
        top = rows.units[rows.chain[-1]].codes
        above = {}
        for f, unit in enumerate(rows.units):
            above[f] = np.zeros(unit.levels, dtype=np.intp)
            above[f][unit.codes] = top
        return top, above

    def _objective(self, value: Array, v: Effects) -> Array:
        """f of each independent group, from l of the rows ``value`` (n,)."""
        rows, above = self._groups
        if not np.isfinite(value.sum()):
            value = np.where(np.isfinite(value), value, -1e300)
        total = -np.bincount(rows, value)
        for f, values in v.items():
            total = total + np.bincount(above[f], 0.5 * (values**2).sum(axis=0), minlength=len(total))
        return np.asarray(total)
