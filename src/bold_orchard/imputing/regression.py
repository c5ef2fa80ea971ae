"""What a covariate's latent variables depend on: the other covariates, their means in the units, and effects of the units."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.columns import Texts
from bold_orchard.data.table import Table
from bold_orchard.design.build import build_design
from bold_orchard.design.design import Options
from bold_orchard.estimation.gaussian_search import first_guess, make_criterion, search
from bold_orchard.estimation.options import SearchOptions
from bold_orchard.imputing.gaps import Covariate
from bold_orchard.imputing.walk import Walk
from bold_orchard.likelihood.conditional import gaussian_draw
from bold_orchard.sentence.parse import read_sentence

Array = NDArray[np.float64]
Places = NDArray[np.intp]
ROWS_EACH = 5  # cells for each predictor, below which means in units are left out


class Regression:
    """A gaussian mixed model of each latent variable, fitted by the engine of all others; ``mean`` (cells, dims) and ``sd`` as last drawn.

    ``units`` (name: codes of the rows) are those of the sentence; those finer than the cells have no part.
    """

    def __init__(
        self, covariate: Covariate, others: list[Covariate], units: dict[str, Places], x: dict[str, Array], z: Array
    ) -> None:
        self.covariate = covariate
        self.cells, self.first = np.unique(covariate.cell, return_index=True)
        self.others = others
        grouping = [codes for codes in units.values() if self._groups(codes[self.first])]
        self.units = [codes[self.first] for codes in grouping]
        few = len(self.cells) <= ROWS_EACH * (1 + len(others) * (1 + len(grouping)))
        self.means = {o.column: [] if few else [codes for codes in grouping if _varies(o.cell, codes)] for o in others}
        columns = self._columns(x)
        terms = " + ".join(f"w{k}" for k in range(len(columns))) or "intercept"
        clauses = "".join(f"; each u{k}: intercept" for k in range(len(self.units)))
        named: dict[str, Any] = {f"w{k}": w for k, w in enumerate(columns)}
        for k, codes in enumerate(self.units):
            raw, place = np.unique(codes, return_inverse=True)
            named[f"u{k}"] = Texts(place.astype(np.intp), np.array([f"l{v}" for v in raw], dtype=object))
        self.mean, self.sd = np.zeros(z.shape), np.ones(z.shape[1])
        self.designs, self.points, self.walks = [], [], []
        for column in z.T:
            table = Table(named | {"z": column}, "covariates", len(column))
            design = build_design(read_sentence(f"z = {terms}{clauses}"), table, Options(force=True))
            criterion = make_criterion(design, True)
            found = search(criterion, first_guess(design, criterion), SearchOptions())
            self.designs.append(design)
            self.points.append(found.point)
            self.walks.append(Walk(found.hessian))

    def _groups(self, codes: Places) -> bool:
        """Whether a unit has several of the cells in some of three levels or more."""
        counts = np.bincount(codes)
        counts = counts[counts > 0]
        return bool(len(counts) >= 3 and len(counts) < 0.8 * len(codes))

    def _columns(self, x: dict[str, Array]) -> list[Array]:
        """The predictors over the cells: indicators of categories, numbers, and means in the units where they vary there."""
        out = []
        for other in self.others:
            values = x[other.column][other.cell]
            for k in range(1, max(len(other.levels), 2)) if other.latent.name == "unordered" else [0]:
                own = (values == k).astype(float) if other.latent.name == "unordered" else values
                of_cell = np.bincount(self.covariate.cell, own) / np.bincount(self.covariate.cell)
                out.append(of_cell[self.cells])
                for codes in self.means[other.column]:
                    mean = (np.bincount(codes, own) / np.maximum(np.bincount(codes), 1))[codes[self.first]]
                    out.append(mean)
        return out

    def step(self, x: dict[str, Array], z: Array, rng: np.random.Generator, settling: bool) -> Array:
        """Coefficients, effects and variances drawn given the latent variables (cells, dims) and the other covariates; z, rescaled where its
        variance is one by definition."""
        columns = self._columns(x)
        for k in range(z.shape[1]):
            design = self.designs[k]
            values = (design.fixed.values[0], *columns) if design.fixed.intercept else tuple(columns)
            design = replace(design, y=z[:, k], fixed=replace(design.fixed, values=values))
            criterion = make_criterion(design, True)
            point = criterion.at(self.points[k].theta)
            point = self.walks[k].step(criterion, point, rng, settling)
            b, effects, sigma2 = gaussian_draw(point, rng)
            mean = sum((value * values[at] for value, at in zip(b, criterion.products.standard.kept)), np.zeros(len(z)))
            for clause in design.clauses:
                mean = mean + effects[clause.block][design.blocks[clause.block].unit.codes, 0]
            sd = float(np.sqrt(sigma2))
            if self.covariate.latent.unit_variance:  # parameter expansion (Liu & Wu 1999)
                mean, sd = mean / sd, 1.0
                z[:, k] /= np.sqrt(sigma2)
            self.points[k], self.mean[:, k], self.sd[k] = point, mean, sd
        return z


def _varies(cell: Places, codes: Places) -> bool:
    """Whether some level of a unit has several cells, so that their mean there is another column than the cells' own values."""
    pairs = np.unique(np.stack([codes, cell]), axis=1).shape[1]
    return pairs > len(np.unique(codes))
