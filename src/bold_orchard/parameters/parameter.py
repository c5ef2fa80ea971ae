"""One parameter of a model: what it is, apart from what it is called."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

MEAN = "mean"  # the linear predictor of the outcome's mean


@dataclass(frozen=True)
class Parameter:
    """Two are the same where ``kind``, ``clause``, ``places`` and ``predictor`` are; all else is how they are written.

    ``kind`` is coefficient, threshold, sd, correlation, vary (what the SDs of a clause depend on), spread (what the residual SD
    depends on) or own (of the family or the residual structure). ``clause`` is the place of the ``each`` clause, None for what
    belongs to the rows; ``places`` are the columns, occasions or grades it is of, none for the residual SD. ``label`` is
    unique in its model; ``group``, ``term`` and ``term2`` are its entry in a document.
    """

    kind: str
    clause: int | None = None
    places: tuple[int, ...] = ()
    predictor: str = MEAN
    label: str = field(default="", compare=False)
    group: str | None = field(default="residual", compare=False)
    term: str = field(default="", compare=False)
    term2: str | None = field(default=None, compare=False)
    entry: str = field(default="", compare=False)

    @property
    def reported_kind(self) -> str:
        """Its kind in a document of intervals: an own parameter's is its name, the SD of the rows' is 'residual'."""
        return self.entry or self.kind

    @property
    def as_covariance(self) -> Parameter:
        """The covariance of the two effects that a correlation is of."""
        return replace(self, kind="covariance", label=self.label.replace("correlation", "covariance", 1))
