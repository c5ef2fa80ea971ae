"""The column space of the fixed part: an orthonormal basis of the columns that have estimates, and how the others stand on them."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.design.design import Design

Array = NDArray[Any]
OWN = 1e-9  # part of a column that must be its own, as in the fit itself
ESTIMABLE = 1e-7  # of a combination's length that aliased columns may add to it by rounding


class ColumnSpace:
    """X[:, kept] = Q ``to_user``, rows weighted by the number of rows that they stand for.

    Columns are centred first where the model has a constant, so that neither units nor offsets of covariates cost digits.
    A combination L b of the kept coefficients is the direction L ``to_user``^-1 in Q's coordinates.
    """

    def __init__(self, design: Design, kept: Sequence[int]) -> None:
        self.design, self.kept = design, list(kept)
        self.constant = design.fixed.intercept or design.graded
        self._root = design.root_counts()
        x = self._centred(self.kept)
        self.lengths = np.maximum(np.linalg.norm(x, axis=0), 1e-300)
        self.q, r = np.linalg.qr(x / self.lengths)
        back = np.eye(len(self.kept))
        if design.fixed.intercept and self.kept:
            back[0, 1:] = [design.mean_of(design.fixed.values[k]) for k in self.kept[1:]]
        self._triangle = r * self.lengths
        self.to_user = self._triangle @ back

    def _centred(self, columns: Sequence[int]) -> Array:
        """Columns of X (n, m), less their means where the model has a constant."""
        part = self.design.fixed
        made = [
            part.values[k] - self.design.mean_of(part.values[k]) if self.constant and k != part.constant else part.values[k]
            for k in columns
        ]  # fmt: skip
        return np.column_stack([v * self._root for v in made]) if made else np.zeros((len(self.design.y), 0))

    @property
    def log_determinant(self) -> float:
        """log|X'X| of the kept columns."""
        return 2.0 * float(np.log(np.abs(np.diag(self._triangle))).sum())

    def rows(self, directions: Array) -> Array:
        """Combinations of the kept coefficients (q, p') from directions (q, p')."""
        return directions @ self.to_user

    def directions(self, rows: Array) -> Array:
        """An orthonormal basis (rank, p') of the directions of combinations ``rows`` (q, p') of the kept coefficients."""
        return basis(np.linalg.solve(self.to_user.T, rows.T)) if len(rows) else rows

    def coordinates(self, codes: NDArray[np.intp], size: int, values: Array) -> Array:
        """Coordinates (p', size) of the columns values * [codes == i], each of length one; columns of zeros are left out.

        A constant of the model is taken out of them.
        """
        weighted = values * self._root
        length = np.sqrt(np.bincount(codes, weighted**2, size))
        made = np.array([np.bincount(codes, column * weighted, size) for column in self.q.T]).reshape(-1, size)
        if self.design.fixed.intercept:
            made[0] = 0.0
        return made[:, length > 0] / length[length > 0]

    @cached_property
    def lost(self) -> list[int]:
        """Aliased columns."""
        return [j for j in range(len(self.design.fixed.names)) if j not in self.kept]

    @cached_property
    def _aliases(self) -> tuple[Array, Array]:
        """Lengths of the aliased columns (lost,), and these columns on the kept ones, all of length one (p', lost)."""
        columns = self._centred(self.lost)
        lengths = np.linalg.norm(columns, axis=0)
        raw = np.array([np.linalg.norm(self.design.fixed.values[j] * self._root) for j in self.lost])
        lengths = np.where(lengths > OWN * raw, lengths, np.where(raw > 0, raw, 1.0))
        made = np.linalg.solve(self._triangle, self.q.T @ columns)
        return lengths, made * self.lengths[:, None] / lengths

    def estimable(self, combinations: Array) -> Array:
        """What of the span of some combinations (q, p) of all coefficients has an answer, over the kept ones (rank, p').

        A combination is estimable where aliased columns stand in it as they stand in X (Searle 1987). Without an intercept
        column the constant is taken to be in the model.
        """
        if not self.lost or not len(combinations):
            return combinations[:, self.kept]
        beside, aliases = self._aliases
        lengths = np.empty(combinations.shape[1])
        lengths[self.kept], lengths[self.lost] = self.lengths, beside
        scaled = combinations / lengths
        scaled = np.linalg.svd(scaled / np.linalg.norm(scaled, axis=1, keepdims=True), full_matrices=False)[2]
        miss = scaled[:, self.lost] - scaled[:, self.kept] @ aliases
        u, s, _ = np.linalg.svd(miss, full_matrices=True)
        free = np.append(s, np.zeros(len(scaled) - len(s))) <= ESTIMABLE
        return np.asarray((u[:, free].T @ scaled)[:, self.kept] * lengths[self.kept])

    def answers(self, x: Array, constant: float = 1.0) -> NDArray[np.bool_]:
        """Whether each row of X (points, p), all columns, is a combination of rows of the data's X, so that it has an answer.

        ``constant`` is what stands in the constant's place where it has no column: 1 of means, 0 of differences and slopes.
        """
        if not self.lost:
            return np.ones(len(x), dtype=bool)
        beside, aliases = self._aliases
        place = self.design.fixed.constant
        one = x[:, [place]] if place is not None else np.full((len(x), 1), constant if self.constant else 0.0)

        def scaled(columns: list[int], lengths: Array) -> Array:
            means = [
                0.0 if c == place or not self.constant else self.design.mean_of(self.design.fixed.values[c])
                for c in columns
            ]
            return (x[:, columns] - one * np.array(means)) / lengths

        told, own = scaled(self.kept, self.lengths) @ aliases, scaled(self.lost, beside)
        root_n = 1.0 / np.sqrt(self.design.n_rows)  # entries of columns of length one are of this size
        size = np.abs(scaled(self.kept, self.lengths)) @ np.abs(aliases) + np.abs(own) + root_n
        return np.asarray((np.abs(told - own) <= 1e-6 * size).all(axis=1))


def basis(columns: Array, beside: Array | None = None) -> Array:
    """An orthonormal basis, as rows (rank, n), of what ``beside`` (rows, orthonormal) leaves of the span of columns (n, m)."""
    lengths = np.linalg.norm(columns, axis=0)
    left = columns[:, lengths > 0] / lengths[lengths > 0]
    for _ in range(0 if beside is None else 2):  # twice, for the last digits
        left = left - beside.T @ (beside @ left)  # type: ignore[union-attr]
    if not left.size:
        return np.zeros((0, len(columns)))
    u, s, _ = np.linalg.svd(left, full_matrices=False)
    return np.asarray(u[:, s > OWN].T)
