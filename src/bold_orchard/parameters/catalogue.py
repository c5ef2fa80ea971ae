"""All parameters of a model in order, each with a label that no other has; and the one a person means by a text."""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

from bold_orchard.covariance.residuals import residual_structure_of
from bold_orchard.design.design import Clause, Design
from bold_orchard.errors import OrchardError, unknown_name
from bold_orchard.parameters.parameter import Parameter


@dataclass(frozen=True)
class OfClause:
    """Parameters of one ``each`` clause: SDs (none where its covariance is given), correlations by (i, j), i < j, and coefficients of
    what its SDs vary with. ``mark`` is what tells it from another clause of the unit that shares a term."""

    sds: tuple[Parameter, ...]
    correlations: dict[tuple[int, int], Parameter]
    vary: tuple[Parameter, ...]
    mark: str

    @property
    def covariance(self) -> tuple[Parameter, ...]:
        return (*self.sds, *self.correlations.values())


class Catalogue:
    """The parameters of a design; ``thresholds`` and ``coefficients`` (aliased ones too), ``clauses``, then those of the rows:
    ``residual_sd`` (None where occasions have their own, and of outcomes that are not additive), ``occasions`` and
    ``occasion_correlations`` by (i, j), ``residual_own`` of the structure, ``spread``, ``family_own``."""

    def __init__(self, design: Design) -> None:
        self.design = design
        self._taken: set[str] = set()
        residual, grades = design.residual, design.levels if design.graded else ()
        structure, family = residual_structure_of(residual.kind), design.kind
        self.clauses = tuple(self._of_clause(i, clause, mark) for i, (clause, mark) in enumerate(self._marked(design)))
        labels = residual.variance_labels
        self.occasions = tuple(
            self._new(Parameter("sd", None, (i,), label=f"sd(residual: {x})", term=x, entry="residual"))
            for i, x in enumerate(labels)
        )
        self.occasion_correlations = self._pairs(None, "residual", labels, residual.variance_pairs)
        own_names = structure.own_names_at(residual.labels)
        names = own_names if residual.by is None else [f"{n}[{level}]" for level in residual.levels for n in own_names]
        self.residual_own = tuple(self._own("residual", i, n) for i, n in enumerate(names))
        columns = () if residual.spread is None else residual.spread.names
        self.spread = tuple(
            self._new(Parameter("spread", None, (i,), label=f"spread {n}", term=n)) for i, n in enumerate(columns)
        )
        sd = Parameter("sd", label="sd(residual)", term="residual", entry="residual")
        self.residual_sd = self._new(sd) if design.additive and not labels and not design.known_errors else None
        own = () if design.additive else family.own
        self.family_own = tuple(self._own("family", o.place, o.name) for o in own)
        self._taken.add("fixed")  # stands for all coefficients where a prior is asked for
        self.thresholds = tuple(
            self._new(Parameter("threshold", None, (i,), label=n, group=None, term=n, entry="fixed"))
            for i, n in enumerate(f"threshold[{a}|{b}]" for a, b in itertools.pairwise(grades))
        )
        self.coefficients = tuple(
            self._new(Parameter("coefficient", None, (i,), label=n, group=None, term=n, entry="fixed"))
            for i, n in enumerate(design.fixed.names)
        )

    @property
    def fixed(self) -> tuple[Parameter, ...]:
        """Thresholds of grades, then the coefficients, aliased ones too."""
        return (*self.thresholds, *self.coefficients)

    @cached_property
    def of_rows(self) -> tuple[Parameter, ...]:
        """What belongs to no unit and is no coefficient."""
        sd = () if self.residual_sd is None else (self.residual_sd,)
        pairs = self.occasion_correlations.values()
        return (*self.occasions, *pairs, *self.residual_own, *self.spread, *sd, *self.family_own)

    def __iter__(self) -> Iterator[Parameter]:
        of_units = (p for c in self.clauses for p in (*c.covariance, *c.vary))
        return itertools.chain(self.fixed, of_units, self.of_rows)

    def of(self, clause: Clause) -> OfClause:
        """The parameters of one of the design's clauses."""
        return self.clauses[next(i for i, c in enumerate(self.design.clauses) if c is clause)]

    def label_of(self, clause: Clause) -> str:
        """The clause's unit, with what tells the clause from another of the unit that shares a term."""
        return self.design.units[clause.unit].name + self.of(clause).mark

    def find(
        self, text: str, among: Iterable[Parameter], model: str, kind: str = "parameter", others: Sequence[str] = ()
    ) -> Parameter:
        """The parameter that a person means: blanks do not count, nor the order of a correlation's two terms.

        Raises OrchardError, which names the parameters there are (and ``others`` that may be written), for a text that means none of ``among``.
        """
        known = list(among)
        written = {p.label: p for p in known}
        if text in written:
            return written[text]
        spellings = [(_bare(s), p) for p in known for s in _spellings(p)]
        meant = {p for s, p in spellings if s == _bare(text)}
        if len(meant) != 1:
            raise OrchardError(unknown_name(kind, text, [*others, *written], model))
        return meant.pop()

    # -- how labels are made

    def _new(self, parameter: Parameter) -> Parameter:
        """Itself with a label that is not taken yet: a coefficient goes into brackets, others are numbered."""
        label = parameter.label
        others = (f"[{label}]", *(f"{label} ({k})" for k in range(2, len(self._taken) + 3)))
        free = next(x for x in (label, *others) if x not in self._taken)
        self._taken.add(free)
        return replace(parameter, label=free)

    def _own(self, owner: str, place: int, name: str) -> Parameter:
        return self._new(Parameter("own", None, (place,), owner, label=name, term=name, entry=name))

    def _pairs(
        self, clause: int | None, group: str, terms: Sequence[str], among: Iterable[tuple[int, int]] | None = None
    ) -> dict[tuple[int, int], Parameter]:
        return {
            (i, j): self._new(Parameter(
                "correlation", clause, (i, j), label=f"correlation({group}: {terms[i]}, {terms[j]})", group=group, term=terms[i], term2=terms[j],
            ))
            for i, j in (itertools.combinations(range(len(terms)), 2) if among is None else among)
        }  # fmt: skip

    def _of_clause(self, at: int, clause: Clause, mark: str) -> OfClause:
        group, terms = self.design.units[clause.unit].name + mark, clause.names
        free = () if clause.given is not None else terms
        sds = tuple(
            self._new(Parameter("sd", at, (i,), label=f"sd({group}: {t})", group=group, term=t))
            for i, t in enumerate(free)
        )
        pairs = self._pairs(at, group, free if clause.kind.correlated else ())
        columns = () if clause.vary is None else clause.vary.names
        vary = tuple(
            self._new(Parameter("vary", at, (i,), label=f"vary({group}: {n})", group=group, term=f"vary {n}"))
            for i, n in enumerate(columns)
        )
        return OfClause(sds, pairs, vary, mark)

    @staticmethod
    def _marked(design: Design) -> Iterator[tuple[Clause, str]]:
        """Each clause with the mark of its unit's name, '' where no other clause of the unit shares a term with it."""
        taken: list[str] = []
        for i, clause in enumerate(design.clauses):
            alike = any(
                c.unit == clause.unit and set(c.part.names) & set(clause.part.names) for c in design.clauses[:i]
            )
            name, kind = design.units[clause.unit].name, clause.structure.kind
            marks = ["", f" ({kind})", *(f" ({kind} {k})" for k in range(2, len(design.clauses) + 2))]
            first = 1 if alike and kind != "unstructured" else 0
            mark = next(m for m in marks[first:] if name + m not in taken or not alike)
            taken.append(name + mark)
            yield clause, mark


def _bare(text: str) -> str:
    return re.sub(r"\s+", "", text)


def _spellings(p: Parameter) -> Iterator[str]:
    yield p.label
    if p.kind == "correlation":
        yield f"correlation({p.group}: {p.term2}, {p.term})"
