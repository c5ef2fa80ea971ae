"""Bold Orchard from Python: tables in any form go in, answers that print, draw and turn into frames come out.

    import bold_orchard as bo
    fit = bo.fit("yield = rain; each orchard: intercept", frame, missing=["-999"])
    fit.coefficients
    fit.means("pruning", hold={"rain": [40, 80]}).to_frame()

Keyword names are those of the command line with underscores; a wrong value raises OrchardError (UsageError for a wrong
option) with the sentence that the command prints.
"""

from __future__ import annotations

import dataclasses
import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bold_orchard.answers import Answer
from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.errors import OrchardError, UsageError
from bold_orchard.inference.fit import Fit, Settings
from bold_orchard.inference.fit import fit as fit_table
from bold_orchard.inference.summary import number
from bold_orchard.sentence.tree import Sentence

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure

SEED = 20260101
Values = Mapping[str, Any]


def table(data: Any, missing: Sequence[str] = (), where: str | None = None) -> Table:
    """A table from whatever has rows and named columns.

    Parameters
    ----------
    data : path, pandas or Polars DataFrame, PyArrow table, DuckDB relation, anything with an Arrow C stream, or dict of
        equally long columns; a Table is filtered only.
    missing : codes that mean missing, each "CODE" or "COLUMN=CODE".
    where : an expression; only the rows for which it holds are kept.

    Raises
    ------
    OrchardError
        for what is no table, with what to give instead.
    """
    from bold_orchard.data.evaluate import filter_rows
    from bold_orchard.data.read import frame_table, read_table

    if isinstance(missing, str):
        missing = [missing]
    if isinstance(data, (str, os.PathLike)):
        return read_table(str(data), [str(m) for m in missing], where)
    made = data if isinstance(data, Table) else frame_table(_frame(data), "the data", [str(m) for m in missing])
    return filter_rows(made, where) if where else made


def _frame(data: Any) -> pd.DataFrame:
    import pandas as pd

    if isinstance(data, pd.DataFrame):
        return data.reset_index(drop=True)
    if isinstance(data, Mapping):
        try:
            return pd.DataFrame(dict(data))
        except ValueError as e:
            raise OrchardError(f"the columns do not make a table: {e}") from None
    if hasattr(data, "__arrow_c_stream__"):
        try:
            import pyarrow
        except ImportError:
            pass
        else:
            return pyarrow.table(data).to_pandas()
    for method in ("to_pandas", "df", "to_dataframe"):
        if hasattr(data, method):
            return pd.DataFrame(getattr(data, method)())
    raise OrchardError(
        f"{type(data).__name__} is no table; give a DataFrame, a dict of columns, an Arrow table or the path of a file"
    )


def fit(
    sentence: str | Sentence,
    data: Any,
    settings: Settings | None = None,
    name: str = "fit",
    *,
    method: str = "reml",
    family: str | None = None,
    link: str | None = None,
    baseline: Mapping[str, str] | None = None,
    missing: Sequence[str] = (),
    where: str | None = None,
    fill_mean: Sequence[str] = (),
    weights: str | None = None,
    df: str = "satterthwaite",
    confidence: float = 0.95,
    points: int | str = 1,
    success: str | None = None,
    grades: Sequence[str] = (),
    tolerance: float = 1e-10,
    max_steps: int = 100,
    force: bool = False,
) -> Model:
    """Fit a mixed model.

    Parameters
    ----------
    sentence : the model, "yield = rain; each orchard: intercept".
    data : see ``table``.
    settings : all options at once instead of the keywords.
    name : what tables and notes call the fit.
    method, family, link, ... : the options of ``orchard fit``, by the same names.

    Returns
    -------
    Model
        also when the search did not converge: look at ``converged``.

    Raises
    ------
    OrchardError
        for a sentence or data that cannot be fitted; UsageError for options that do not exist.

    Examples
    --------
    >>> import bold_orchard as bo
    >>> rows = {"tree": list("aabbccdd"), "yield": [1.0, 1.2, 2.1, 2.0, 3.2, 3.1, 1.9, 2.2]}
    >>> bo.fit("yield = intercept; each tree: intercept", rows).converged
    True
    """
    if settings is None:
        fill = [fill_mean] if isinstance(fill_mean, str) else fill_mean
        options = Options(
            {str(k): str(v) for k, v in (baseline or {}).items()}, tuple(fill), weights, family, force, link, success,
            tuple(str(g) for g in grades),
        )  # fmt: skip
        settings = Settings(method, options, df, confidence, tolerance, max_steps, points)
        _check(settings)
    rows = table(data, missing, where)
    source = str(data) if isinstance(data, (str, os.PathLike)) else None
    kept = [missing] if isinstance(missing, str) else [str(m) for m in missing]
    return Model(fit_table(sentence, rows, settings, name), rows, source, tuple(kept), where)


def _check(settings: Settings) -> None:
    """The same refusals as the command line's."""
    from bold_orchard.inference.coefficients.methods import METHODS

    if settings.df not in METHODS:
        raise UsageError(f"df is one of {', '.join(METHODS)}, not '{settings.df}'")
    if not settings.tolerance > 0:
        raise UsageError("the tolerance must be above zero")
    if settings.max_steps < 1:
        raise UsageError("max_steps must be 1 or more")
    if not 0 < settings.confidence < 1:
        raise UsageError(f"a confidence level lies between 0 and 1, not {settings.confidence:g}")
    whole = isinstance(settings.points, int) and 1 <= settings.points <= 100
    if not whole and settings.points != "auto":
        raise UsageError(f"points are a whole number from 1 to 100, or 'auto', not {settings.points!r}")


def open_fit(name: str) -> Model:
    """A fit kept by ``save`` or ``orchard fit --save``, by its name or the path of its file, ready to go on with."""
    from bold_orchard.storage.saved_fits import load_document, own_table
    from bold_orchard.storage.saved_fits import open_fit as taken_up

    saved = load_document(name)["saved"]
    return Model(taken_up(name), own_table(name), None, tuple(saved["missing"]), saved["where"])


def scout(data: Any, unit: Sequence[str] = (), *, missing: Sequence[str] = (), where: str | None = None) -> Answer:
    """What the columns are, which of them group the rows, what varies inside a group; see ``orchard scout``."""
    from bold_orchard.data.scout import scout as scouted

    units = [unit] if isinstance(unit, str) else list(unit)
    return Answer("scout", scouted(table(data, missing, where), units))


def compare(
    *fits: Model | str | Sequence[Model | str],
    force: bool = False,
    common_rows: bool = False,
    bootstrap: int = 0,
    seed: int = SEED,
) -> Answer:
    """Likelihood-ratio tests and information criteria of fits of the same rows; see ``orchard compare``."""
    from bold_orchard.inference.comparison.compare import compare_fits

    given = [f for each in fits for f in (each if isinstance(each, (list, tuple)) else (each,))]
    opened = [open_fit(f).core if isinstance(f, str) else f.core for f in given]
    if bootstrap and bootstrap < 20:
        raise UsageError("bootstrap needs 20 simulated outcomes or more")
    named = _told_apart(opened)
    document, compared = compare_fits(named, force, common_rows, bootstrap, seed)

    def picture() -> Figure:
        from bold_orchard.inference.prediction.average_lines import compared_lines
        from bold_orchard.reporting.figures.compare import compare_figure

        return compare_figure(document, compared_lines(compared))

    return Answer("compare", document, picture)


def _told_apart(fits: Sequence[Fit]) -> list[Fit]:
    """Fits that bear one name get numbers after it."""
    names = [f.name for f in fits]
    out = []
    for place, f in enumerate(fits):
        if names.count(f.name) > 1:
            name = f"{f.name} {names[: place + 1].count(f.name)}"
            f = dataclasses.replace(f, name=name, result=f.result | {"name": name})
        out.append(f)
    return out


@dataclasses.dataclass(frozen=True, repr=False)
class Model:
    """A fitted model: its tables as attributes, every further question a method.

    ``core`` is the engine's own fit; ``rows`` the table it was made from, all rows of it.
    """

    core: Fit
    rows: Table
    source: str | None = None
    missing: tuple[str, ...] = ()
    where: str | None = None

    def __repr__(self) -> str:
        state = "" if self.converged else ", NOT CONVERGED"
        figures = self.core.result["fit"]
        return f"<fit '{self.core.name}': {self.core.result['model']}; loglik {figures['loglik']}{state}>"

    def __str__(self) -> str:
        return str(self.answer)

    def _repr_html_(self) -> str:
        return self.answer._repr_html_()

    @property
    def answer(self) -> Answer:
        """What ``orchard fit`` prints, as an answer."""
        return Answer("fit", self.core.result)

    @property
    def result(self) -> dict[str, Any]:
        return self.core.result

    @property
    def converged(self) -> bool:
        return self.core.converged

    @property
    def notes(self) -> list[str]:
        return list(self.core.result["notes"])

    @property
    def loglik(self) -> float | None:
        return number(-0.5 * self.core.evaluation.deviance)

    @property
    def coefficients(self) -> pd.DataFrame:
        """One row per term: term, estimate, se, df, statistic, p, low, high."""
        return self.answer.to_frame()

    @property
    def variation(self) -> pd.DataFrame:
        """One row per component: group, kind, term, term2, estimate, sd, correlation, se, ratio, low, high, share."""
        return self.components().to_frame()

    def to_dict(self) -> dict[str, Any]:
        """The JSON contract of ``orchard fit``."""
        return self.answer.to_dict()

    def to_frame(self) -> pd.DataFrame:
        return self.coefficients

    def figure(self) -> Figure:
        return self.answer.figure()

    def save(self, name: str) -> Path:
        """Keep the fit as NAME.fit.json for later commands; a name that ends in .txt, .json, .html, ... writes what is printed."""
        from bold_orchard.answers import ENDINGS
        from bold_orchard.storage.saved_fits import ENDING, save_fit

        if Path(name).suffix.lower() in ENDINGS and not name.endswith(ENDING):
            return self.answer.save(name)
        plain = Path(name).name.removesuffix(ENDING)
        named = dataclasses.replace(self.core, name=plain, result=self.core.result | {"name": plain})
        if self.source is not None:
            return save_fit(named, name, self.source, list(self.missing), self.where)
        raw = self.rows.frame.to_csv(index=False).encode()
        design = dataclasses.replace(named.design, table=dataclasses.replace(named.design.table, raw=raw))
        named = dataclasses.replace(named, model=dataclasses.replace(named.model, design=design))
        return save_fit(named, name, "-", [], None)

    def compare(self, *others: Model | str, **options: Any) -> Answer:
        """This fit against others; see ``compare``."""
        return compare(self, *others, **options)

    def terms(
        self, type: int = 3, *, df: str | None = None, chisq: bool = False, likelihood: bool = False,
        contrast: Sequence[str] = (), force: bool = False, confidence: float | None = None,
    ) -> Answer:  # fmt: skip
        """Tests of the fixed terms, and of contrasts in words; see ``orchard terms``."""
        from bold_orchard.inference.coefficients.contrasts import contrast as tested
        from bold_orchard.inference.coefficients.terms import terms

        if type not in (1, 2, 3):
            raise UsageError(f"the type is 1, 2 or 3, not {type!r}")
        level = confidence or self.core.settings.confidence
        texts = [contrast] if isinstance(contrast, str) else contrast
        document = terms(self.core, type, df, chisq, force, likelihood)
        document |= {"confidence": level, "contrasts": [tested(self.core, t, df, level) for t in texts]}
        return Answer("terms", document)

    def means(
        self, term: str, *, hold: Mapping[str, Any] | None = None, correction: str = "tukey", df: str | None = None,
        slope: str | None = None, within: str | None = None, ratios: bool = False, force: bool = False,
        confidence: float | None = None,
    ) -> Answer:  # fmt: skip
        """Adjusted means of a term's levels and their differences; see ``orchard means``."""
        from bold_orchard.inference.coefficients.means import means
        from bold_orchard.inference.coefficients.multiplicity import METHODS

        if correction not in METHODS:
            raise UsageError(f"the correction is one of {', '.join(METHODS)}, not '{correction}'")
        held = {k: [v] if isinstance(v, (str, int, float)) else list(v) for k, v in (hold or {}).items()}
        level = confidence or self.core.settings.confidence
        return Answer("means", means(self.core, term, held, correction, df, level, slope, force, within, ratios))

    def components(
        self, method: str = "wald", *, against: Model | None = None, confidence: float | None = None
    ) -> Answer:
        """Variance components with errors, shares, ICC and R squared; see ``orchard components``."""
        from bold_orchard.inference.variances.components import components

        if method not in ("wald", "profile"):
            raise UsageError(f"the method is wald or profile, not '{method}'")
        level = confidence or self.core.settings.confidence
        return Answer("components", components(self.core, level, method, None if against is None else against.core))

    def intervals(
        self, method: str = "profile", *, samples: int = 1000, seed: int = SEED, force: bool = False,
        confidence: float | None = None,
    ) -> Answer:  # fmt: skip
        """Intervals for everything: profile, wald or bootstrap; see ``orchard intervals``."""
        from bold_orchard.inference.intervals.intervals import intervals

        level = confidence or self.core.settings.confidence
        return Answer("intervals", intervals(self.core, method, level, 12, samples, seed, force))

    def groups(self, *, confidence: float | None = None) -> Answer:
        """What was predicted for each unit, and how surely; see ``orchard groups``."""
        from bold_orchard.inference.prediction.groups import groups

        return Answer("groups", groups(self.core, confidence or self.core.settings.confidence))

    def check(
        self, *, unit: str | None = None, time: str | None = None, influence: str | None = None, seed: int = SEED,
        kind: str = "overview",
    ) -> Answer:  # fmt: skip
        """Residuals at every level; ``figure()`` draws the ``kind`` of picture; see ``orchard check``."""
        from bold_orchard.diagnostics.checks import Asked, check

        checked = check(self.core, Asked(unit, time, influence, seed))

        def picture() -> Figure:
            from bold_orchard.reporting.figures.check import check_figure, refuse_empty

            refuse_empty(self.core, checked, kind)
            return check_figure(self.core, checked, kind)

        return Answer("check", checked.document, picture)

    def predict(
        self, new: Any = None, *, new_observation: bool = False, missing: Sequence[str] = (), where: str | None = None,
        seed: int = SEED, confidence: float | None = None,
    ) -> Answer:  # fmt: skip
        """Predicted values of the fit's own rows or of new ones; see ``orchard predict``."""
        from bold_orchard.inference.prediction.predict import predict_document

        rows = self.rows if new is None else table(new, missing, where)
        level = confidence or self.core.settings.confidence
        return Answer("predict", predict_document(self.core, rows, level, new_observation, seed))
