"""Families with several linear predictors: the mean, and own parameters that depend on columns and on units.

Rigby & Stasinopoulos (2005), Applied Statistics 54, 507-554. Every array of linear predictors has these in its first
axis, (P, ..., n); l is
(..., n), its derivatives (P, ..., n), (P, P, ..., n) and (P, P, P, ..., n).
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from bold_orchard.families import jets
from bold_orchard.families.base import Data, Family, Part

Array = NDArray[Any]
_made: dict[tuple[type[Family], tuple[str, ...]], type[Joint]] = {}
LEAST = 1e-10  # eigenvalue of a stand-in for the information of a row, relative to its largest
STEP = 1e-2  # of an own parameter without jets, by which derivatives are differenced to the fourth order: ten digits


class Several(Family):
    """What families of several predictors have in common; ``predictors`` names them, the first being the mean's."""

    def jet(self, eta: Array, extra: Any, order: int = 3) -> jets.Jet:
        """l of every row as a jet in the predictors."""
        raise NotImplementedError

    def derivatives(self, eta: Array, extra: Array) -> tuple[Array, Array, Array, Array]:
        made = self.jet(eta, extra)
        p, value = len(eta), np.broadcast_to(made.value, np.shape(eta)[1:])
        return value, *(
            _whole(d, (p,) * k, value.shape) for k, d in enumerate((made.first, made.second, made.third), 1)
        )  # type: ignore[return-value]

    def slopes(self, eta: Array, extra: Array) -> tuple[Array, Array]:
        made = self.jet(eta, extra, 2)
        p, shape = len(eta), np.shape(eta)[1:]
        return _whole(made.first, (p,), shape), _whole(made.second, (p, p), shape)

    def value(self, eta: Array, extra: Array) -> Array:
        return np.asarray(self.jet(eta, extra, 2).value)

    def expected(self, eta: Array, extra: Array) -> Array:
        """A positive definite stand-in for -l'', (P, P, ..., n): its eigenvalues without their signs."""
        return clamped(-self.slopes(eta, extra)[1])


def clamped(weight: Array) -> Array:
    """Symmetric matrices (P, P, ..., n) with the sizes of their eigenvalues in the place of these."""
    if len(weight) == 2:
        return _clamped_pairs(np.where(np.isfinite(weight), weight, 0.0))
    moved = np.moveaxis(weight, (0, 1), (-2, -1))
    values, vectors = np.linalg.eigh(np.where(np.isfinite(moved), moved, 0.0))
    sizes = np.abs(values)
    sizes = np.maximum(sizes, LEAST * np.maximum(sizes.max(axis=-1, keepdims=True), 1e-2))
    return np.moveaxis((vectors * sizes[..., None, :]) @ vectors.swapaxes(-1, -2), (-2, -1), (0, 1))


def _clamped_pairs(weight: Array) -> Array:
    """The same of two by two matrices, in closed form: f(W) = m I + k (W - middle I)."""
    middle, reach = _middle_and_reach(weight)
    one, two = np.abs(middle + reach), np.abs(middle - reach)
    least = LEAST * np.maximum(np.maximum(one, two), 1e-2)
    one, two = np.maximum(one, least), np.maximum(two, least)
    with np.errstate(all="ignore"):
        k = np.where(reach > 0, (one - two) / (2.0 * reach), 0.0)
    out = weight * k
    at = 0.5 * (one + two) - k * middle
    out[0, 0] += at
    out[1, 1] += at
    return np.asarray(out)


def _middle_and_reach(weight: Array) -> tuple[Array, Array]:
    """Half the trace of two by two matrices, and by how much the eigenvalues lie above and below it."""
    return 0.5 * (weight[0, 0] + weight[1, 1]), np.hypot(0.5 * (weight[0, 0] - weight[1, 1]), weight[0, 1])


def definite(weight: Array) -> bool:
    """Whether all of some symmetric matrices (P, P, ..., n) are positive definite."""
    if not np.isfinite(weight).all():
        return False
    if len(weight) == 2:
        middle, reach = _middle_and_reach(weight)
        return bool((middle - reach).min() > 0)
    return bool(np.linalg.eigvalsh(np.moveaxis(weight, (0, 1), (-2, -1)))[..., 0].min() > 0)


def _whole(values: Array | None, indices: tuple[int, ...], shape: tuple[int, ...]) -> Array:
    if values is None:
        return np.zeros((*indices, *shape))
    return np.ascontiguousarray(np.broadcast_to(values, (*indices, *shape)))


class Joint(Several):
    """A family some of whose own parameters have predictors; ``law`` has it with the values of each row in their
    places."""

    plain: ClassVar[type[Family]]
    chosen: ClassVar[tuple[Part, ...]]
    kept: ClassVar[tuple[int, ...]]  # places of the other own parameters in the plain family

    def __init__(self, link: str, data: Data) -> None:
        super().__init__(link, data)
        self.rows = self.plain(link, data)
        self.extra_names = tuple(self.rows.extra_names[k] for k in self.kept)

    @classmethod
    def written(cls, link: str) -> tuple[str, str]:
        return cls.plain.written(link)

    @property
    def describes(self) -> str:  # type: ignore[override]
        return self.plain.describes

    def on(self, data: Data) -> Family:
        made = type(self)(self.link, data) if data.low is not None or self.data.low is None else None
        if made is None:  # censored rows elsewhere, without limits
            made = joint_of(type(self.rows.on(data)), self.predictors)(self.link, data)
        return made

    def unit(self) -> float:
        return self.rows.unit()

    def all_own(self, eta: Any, extra: Any) -> list[Any]:
        """The plain family's own parameters, those with a predictor row by row."""
        own: list[Any] = [None] * (len(self.chosen) + len(self.kept))
        for part, values in zip(self.chosen, eta[1:]):
            own[part.place] = part.sign * values
        for place, value in zip(self.kept, extra):
            own[place] = value
        return own

    def start(self) -> tuple[Array, Array]:
        eta, own = self.rows.start()
        parts = [np.full(len(self.y), part.sign * own[part.place]) for part in self.chosen]
        return np.array([eta, *parts]), own[list(self.kept)]

    def jet(self, eta: Array, extra: Any, order: int = 3) -> jets.Jet:
        x = jets.variables(list(eta), order)
        made: jets.Jet = self.rows.density(x[0], self.all_own(x, extra))
        return made

    def value(self, eta: Array, extra: Array) -> Array:
        made = self.rows.density(eta[0], self.all_own(eta, extra))
        return np.asarray(np.broadcast_to(made, np.shape(eta)[1:]))

    def extras(self, eta: Array, extra: Array) -> list[tuple[Array, Array, Array]]:
        p, shape = len(eta), np.shape(eta)[1:]
        if not len(extra):
            return []
        if self.rows.differenced:
            return [self._differenced(eta, extra, k) for k in range(len(extra))]
        x = jets.variables([*eta, *extra])
        made = self.rows.density(x[0], self.all_own(x[:p], x[p:]))
        first, second, third = (
            _whole(d, (len(x),) * k, shape) for k, d in enumerate((made.first, made.second, made.third), 1)
        )
        return [(first[k], second[k, :p], third[k, :p, :p]) for k in range(p, len(x))]

    def _differenced(self, eta: Array, extra: Array, k: int) -> tuple[Array, Array, Array]:
        away = STEP * np.eye(len(extra))[k]
        made = [(self.value(eta, at), *self.slopes(eta, at)) for at in (extra + h * away for h in (-2, -1, 1, 2))]
        one, two, three = ((a - 8.0 * b + 8.0 * c - d) / (12.0 * STEP) for a, b, c, d in zip(*made))
        return one, two, three

    def lost(self, extra: Array) -> NDArray[np.bool_]:
        own = np.array(self.all_own([0.0] * len(self.predictors), list(extra)), dtype=float)
        return self.rows.lost(own)[list(self.kept)] if len(self.kept) else np.zeros(0, dtype=bool)

    def mean(self, eta: Array, extra: Array) -> Array:
        return self.rows.mean(eta[0], self.all_own(eta, extra))  # type: ignore[arg-type]

    def mean_slope(self, eta: Array, extra: Array) -> Array:
        return self.rows.mean_slope(eta[0], self.all_own(eta, extra))  # type: ignore[arg-type]

    def variance(self, eta: Array, extra: Array) -> Array:
        return self.rows.variance(eta[0], self.all_own(eta, extra))  # type: ignore[arg-type]

    def draw(self, eta: Array, extra: Array, rng: np.random.Generator) -> Array:
        return self.rows.draw(eta[0], self.all_own(eta, extra), rng)  # type: ignore[arg-type]

    def cdf(self, y: Array, eta: Array, extra: Array) -> tuple[Array, Array]:
        return self.rows.cdf(y, eta[0], self.all_own(eta, extra))  # type: ignore[arg-type]

    def latent_variance(self, eta: Array, extra: Array) -> float:
        return self.rows.latent_variance(eta[0], self.all_own(eta, extra))  # type: ignore[arg-type]


def joint_of(kind: Any, predictors: tuple[str, ...]) -> type[Joint]:
    """The family of one kind whose ``predictors``, the mean's first, are linear in columns and effects."""
    if (kind, predictors) in _made:
        return _made[kind, predictors]
    chosen = tuple(next(p for p in kind.parts if p.name == name) for name in predictors[1:])
    taken = {p.place for p in chosen}
    places = tuple(k for k in range(len(kind.extra_names)) if k not in taken)
    own = [o for o in kind.own if o.place not in taken]
    limits = dict(enumerate(kind.limits))
    attributes = {
        **{n: getattr(kind, n) for n in ("name", "links", "reads", "measure", "support", "chances", "wants_trials", "law")},
        "plain": kind,
        "chosen": chosen,
        "kept": places,
        "predictors": predictors,
        "own": tuple(replace(o, place=places.index(o.place)) for o in own),
        "limits": tuple(limits.get(k, "") for k in places),
        "extra_names": tuple(kind.extra_names[k] for k in places),
    }  # fmt: skip
    name = f"{kind.__name__}Of{'And'.join(n.capitalize() for n in predictors)}"
    made: type[Joint] = type(name, (Joint,), attributes)
    return _made.setdefault((kind, predictors), made)
