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
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bold_orchard.answers import Answer
from bold_orchard.choices import Df, FamilyName, Method
from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.errors import NotConverged, UsageError
from bold_orchard.fits import SEED, Model, compare, draw, in_words, open_fit, plan, report, side_by_side
from bold_orchard.fitted import Origin
from bold_orchard.inference.fit import Fit, Imputing, Settings
from bold_orchard.inference.fit import fit as fit_table
from bold_orchard.inference.summary import with_confidence, with_ratios
from bold_orchard.progress import silent
from bold_orchard.results.base import Absent
from bold_orchard.results.components import IntraclassCorrelation, RSquared
from bold_orchard.results.fit import AverageEffect, FitResult
from bold_orchard.scouting import scout
from bold_orchard.sentence.parse import read_sentence, used_columns
from bold_orchard.sentence.tree import Column, Sentence, calls_of
from bold_orchard.tables import declared, index_of, larger_than, table
from bold_orchard.wording import texts_of

if TYPE_CHECKING:
    import pandas as pd

__all__ = [
    "Answer",
    "Model",
    "compare",
    "draw",
    "explain",
    "fit",
    "matrices",
    "open_fit",
    "plan",
    "read_sentence",
    "refit",
    "report",
    "scan",
    "scout",
    "show",
    "side_by_side",
    "table",
]


def fit(
    sentence: str | Sentence,
    data: Any,
    settings: Settings | None = None,
    name: str = "fit",
    *,
    method: Method = "reml",
    family: FamilyName | None = None,
    link: str | None = None,
    baseline: Mapping[str, str] | None = None,
    missing: Sequence[str] = (),
    where: str | None = None,
    fill_mean: Sequence[str] = (),
    weights: str | None = None,
    df: Df = "satterthwaite",
    confidence: float = 0.95,
    points: int | str = 1,
    success: str | None = None,
    grades: Sequence[str] = (),
    tolerance: float = 1e-10,
    max_steps: int = 100,
    errors: str | None = None,
    order: Mapping[str, Sequence[str]] | None = None,
    labels: Mapping[str, Any] | str | None = None,
    impute: int | None = None,
    impute_with: Sequence[str] | str = (),
    seed: int = SEED,
    force: bool = False,
    effects: bool = False,
    ratios: bool = False,
    source: str | None = None,
    memory: str | int | None = None,
    cluster: str | None = None,
    progress: Callable[..., None] | None = None,
) -> Model:
    """Fit a mixed model.

    Parameters
    ----------
    sentence : the model, "yield = rain; each orchard: intercept".
    data : see ``table``.
    settings : all options at once instead of the keywords.
    name : what tables and notes call the fit.
    method, family, link, ... : the options of ``orchard fit``, by the same names.
    source : the file that a Table was read from, kept when the fit is saved; of a path it is the path itself.
    order : the levels of text columns in their order, {"dose": ["low", "high"]}; the first is the baseline.
    labels : texts of columns and levels, {"graft": {"label": "Graft", "levels": {"0": "own roots"}, "order": ["0",
    "1"]}, "rain": "Rain (mm)"}, or a
        TOML file of them; of a path also NAME.labels.toml beside it. Pages and pictures show them.
    impute : rows with missing covariates are kept, what is missing drawn this often, and the fits pooled; ``seed`` begins the draws.
    impute_with : columns beside the sentence that help to draw.
    memory : "2GB"; a path whose used columns take more is read in pieces (default: a quarter of the machine's).
    cluster : the address of a running Dask scheduler, or "local:2"; its workers read the pieces.
    progress : called with the number of steps done.

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
        settings = Settings(
            method, options, df, confidence, tolerance, max_steps, points, None if errors == "model" else errors,
            _imputing(impute, impute_with, seed),
        )  # fmt: skip
        _check(settings)
    wording = texts_of(labels, data if source is None else source)
    settings = dataclasses.replace(settings, wording=wording or None)
    sentence = read_sentence(sentence) if isinstance(sentence, str) else sentence
    beside = [impute_with] if isinstance(impute_with, str) else [str(c) for c in impute_with]
    if beside and impute is None:
        raise UsageError(
            "--impute-with names columns that help to draw gaps; say how often they are drawn, --impute 20"
        )
    if isinstance(data, (str, os.PathLike)) and str(data) != "-":
        used = used_columns(sentence, settings.options.weights, where)
        if cluster is not None or larger_than(str(data), used, memory):
            if settings.impute is not None:
                raise UsageError(
                    "--impute is not made for data read in pieces; allow more --memory, or take a part of the rows with --where"
                )
            if order:
                raise UsageError("--order is not made for data read in pieces; name the baseline with --baseline")
            return _in_pieces(
                sentence, str(data), used, missing, where, settings, name, progress, cluster, effects, ratios
            )
    if isinstance(data, (str, os.PathLike)):
        used = [*used_columns(sentence, settings.options.weights, where), *beside]
        rows, source = table(data, missing, where, used, order), str(data)
    else:
        rows = data if isinstance(data, Table) and source is not None else table(data, missing, where, order=order)
    wording.check(rows.columns, rows.name)
    rows, settings = declared(rows, wording.orders), _with_baselines(settings, sentence, rows, wording.orders)
    kept = [missing] if isinstance(missing, str) else [str(m) for m in missing]
    if settings.impute is None:
        made = fit_table(sentence, rows, settings, name, progress)
    else:
        from bold_orchard.imputing.fit import fit_imputed

        made = fit_imputed(sentence, rows, settings, name, progress or silent)
    origin = Origin(source, tuple(kept), where, index=index_of(data))
    return _told(Model(_with_views(made, effects, ratios), rows, origin))


def _told(model: Model) -> Model:
    """The same, logged; warns of a search that did not converge."""
    import logging
    import warnings

    result = model.result
    logging.getLogger("bold_orchard").info(
        "fit '%s': %s; %d rows, log-likelihood %s, %s", result.name, result.model, result.rows.used, result.fit.loglik,
        "converged" if model.converged else "NOT CONVERGED",
    )  # fmt: skip
    if not model.converged:
        why = next(iter(model.notes), "its estimates are where the search stopped")
        warnings.warn(f"the fit '{result.name}' did NOT converge: {why}", NotConverged, stacklevel=3)
    return model


def scan(
    sentence: str | Sentence, data: Any, outcomes: Sequence[str] | str = (), *, by: str | None = None, correction: str = "bh", only: str | None = None,
    into: str | None = None, missing: Sequence[str] = (), where: str | None = None, method: Method = "reml",
    family: FamilyName | None = None, link: str | None = None, baseline: Mapping[str, str] | None = None,
    weights: str | None = None,
    df: Df = "satterthwaite", confidence: float = 0.95, success: str | None = None,
    grades: Sequence[str] = (), force: bool = False,
    progress: Callable[[int, int], None] | None = None,
) -> Answer:  # fmt: skip
    """One sentence fitted to many outcomes; ``to_frame()`` has a row for each outcome and term.

    Parameters
    ----------
    sentence : the model, with the word ``outcome`` for its outcome; with ``by`` the outcome by its name.
    data : see ``table``.
    outcomes : columns, or patterns such as "aroma_*".
    by : a column instead, of each of whose levels the rows are fitted by themselves.
    correction : of the p-values over the outcomes, term by term: "bh", "holm" or "none".
    only : one term, whose rows alone are told.
    into : a file that takes each fit as it is made; what it holds already is not made again.
    method, family, ... : as in ``fit``.

    Raises
    ------
    OrchardError
        for a file ``into`` that holds another scan; UsageError for columns, terms and options that do not exist. An outcome that cannot
        be fitted is a row that says why.

    Examples
    --------
    >>> import bold_orchard as bo
    >>> rows = {"tree": list("aabbccdd"), "one": [1.0, 1.2, 2.1, 2.0, 3.2, 3.1, 1.9, 2.2], "two": [2.0, 1.0, 2.1, 1.7, 3.0, 2.9, 2.5, 2.2]}
    >>> bo.scan("outcome = intercept; each tree: intercept", rows, ["one", "two"]).result.outcomes
    2
    """
    from bold_orchard.inference import scanning

    named = [outcomes] if isinstance(outcomes, str) else [str(o) for o in outcomes]
    if bool(named) == (by is not None):
        raise UsageError("a scan goes over outcomes or over the levels of a column, by; give one of them")
    if correction not in scanning.CORRECTIONS:
        raise UsageError(f"the correction is one of {', '.join(scanning.CORRECTIONS)}, not '{correction}'")
    options = Options(
        {str(k): str(v) for k, v in (baseline or {}).items()},
        (),
        weights,
        family,
        force,
        link,
        success,
        tuple(map(str, grades)),
    )
    settings = Settings(method, options, df, confidence)
    _check(settings)
    read = read_sentence(sentence) if isinstance(sentence, str) else sentence
    rows = table(data, missing, where)
    made = (
        scanning.over_outcomes(read, rows, named, settings)
        if by is None
        else scanning.over_levels(read, rows, by, settings)
    )
    stamp = repr(
        (
            read.written,
            str(data) if isinstance(data, (str, os.PathLike)) else len(rows),
            list(missing),
            where,
            by,
            settings,
        )
    )
    found = scanning.carried_out(made, None if into is None else Path(into), stamp, progress or silent)
    return Answer(scanning.document_of(found, read.written, correction, only, by, confidence), True)


def refit(
    earlier: Model | str, data: Any = None, *, add: str | Sequence[str] = (), drop: str | Sequence[str] = (), each: str | Sequence[str] = (),
    without_each: str | Sequence[str] = (), outcome: str | None = None, **options: Any,
) -> Model:  # fmt: skip
    """The sentence of a fit, edited and fitted again.

    Parameters
    ----------
    earlier : a fit, or the name of a saved one; its options hold unless given anew.
    data : other rows (default: those of the earlier fit).
    add, drop : terms of the fixed part, "soil + rain".
    each : a clause "UNIT: TERMS", in the place of those of its unit where there are some.
    without_each : a unit whose clauses are left out.
    outcome : another outcome.

    Raises
    ------
    OrchardError
        as ``fit`` does; UsageError for a term to drop or a unit that the sentence does not have.

    Examples
    --------
    >>> import bold_orchard as bo
    >>> rows = {"tree": list("aabbccdd"), "yield": [1.0, 1.2, 2.1, 2.0, 3.2, 3.1, 1.9, 2.2], "rain": [1, 2, 3, 4, 2, 3, 1, 5]}
    >>> bo.refit(bo.fit("yield = intercept; each tree: intercept", rows), add="rain").result.model
    'yield = rain; each tree: intercept'
    """
    from bold_orchard.sentence.edit import Edits

    texts = {"add": add, "drop": drop, "each": each, "without_each": without_each}
    rows: Any = None
    edits = Edits(**{k: (v,) if isinstance(v, str) else tuple(v) for k, v in texts.items()}, outcome=outcome)
    from bold_orchard.storage.saved_fits import as_asked, asked_of

    if isinstance(earlier, str):
        asked = as_asked(earlier, data is None)
        if asked["data"] is None and data is None:
            rows, asked["missing"], asked["where"] = open_fit(earlier).read, [], None
    else:
        s, o, origin = earlier.core.settings, earlier.core.settings.options, earlier.origin
        rows = earlier.read if origin.source is None else origin.source
        asked = {"sentence": earlier.result.model, "data": None, "baseline": o.baselines, "fill_mean": o.fill_mean, "grades": o.grades,
                 "order": earlier.core.design.orders, "labels": None if s.wording is None else s.wording.to_dict(),
                 **({"missing": origin.missing, "where": origin.where} if origin.source is not None else {}),
                 **{k: getattr(o, k) for k in ("weights", "family", "link", "success", "force")},
                 **{k: getattr(s, k) for k in ("method", "df", "confidence", "tolerance", "max_steps", "points", "errors")},
                 **asked_of(s.impute)}  # fmt: skip
    sentence = edits.of(read_sentence(asked.pop("sentence")))
    place = asked.pop("data")
    return fit(sentence, data if data is not None else rows if place is None else place, **(asked | options))


def _imputing(draws: int | None, beside: Sequence[str] | str, seed: int) -> Imputing | None:
    """How gaps are to be drawn, if at all; raises UsageError for columns that help with nothing."""
    named = (beside,) if isinstance(beside, str) else tuple(str(c) for c in beside)
    if draws is None and named:
        raise UsageError(
            "--impute-with names columns that help to draw gaps; say how often they are drawn, --impute 20"
        )
    return None if draws is None else Imputing(draws, named, seed)


def _with_baselines(
    settings: Settings, sentence: Sentence, rows: Table, orders: Mapping[str, Sequence[str]]
) -> Settings:
    """The first level that labels declare, of numbers that the sentence takes as categories, is their baseline."""
    taken = [c.arguments[0] for c in calls_of(sentence) if c.function == "category"]
    first = {
        c.name: orders[c.name][0]
        for c in taken
        if isinstance(c, Column) and c.name in orders and rows.has(c.name) and rows.kind(c.name) == "number"
    }
    options = dataclasses.replace(settings.options, baselines=first | dict(settings.options.baselines))
    return dataclasses.replace(settings, options=options) if first else settings


def _with_views(made: Fit, effects: bool, ratios: bool) -> Fit:
    """A fit whose document also tells how alike rows of one unit are and what is explained, average effects and ratios
    if asked."""
    if made.converged and not made.imputations:
        from bold_orchard.inference.variances.shares import intraclass_correlations, r_squared

        icc = [IntraclassCorrelation.from_dict(row) for row in intraclass_correlations(made)]
        told = made.result.with_keys(icc=icc, r2=RSquared.from_dict(r_squared(made)))
        made = dataclasses.replace(made, result=told)
    if effects:
        made.needs_one_table("--effects")
        made.needs_one_predictor("--effects")
        made = dataclasses.replace(made, result=made.result.with_keys(average_effects=_average_effects(made)))
    return dataclasses.replace(made, result=with_ratios(made.result)) if ratios else made


def _in_pieces(
    sentence: Sentence, source: str, used: Sequence[str], missing: Sequence[str], where: str | None, settings: Settings, name: str,
    progress: Callable[..., None] | None, cluster: str | None, effects: bool, ratios: bool,
) -> Model:  # fmt: skip
    from bold_orchard.inference.fit import fit_pieces

    kept = [missing] if isinstance(missing, str) else [str(m) for m in missing]
    made = _with_views(
        fit_pieces(sentence, source, used, kept, where, settings, name, progress, cluster), effects, ratios
    )
    return _told(Model(made, None, Origin(source, tuple(kept), where)))


def _check(settings: Settings) -> None:
    """The same refusals as the command line's."""
    from bold_orchard.inference.coefficients.methods import METHODS

    if settings.errors is not None:
        from bold_orchard.inference.coefficients.robust import read_errors

        read_errors(settings.errors)
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


def _average_effects(made: Fit) -> list[AverageEffect]:
    """Average effects on the outcome's scale; raises UsageError for a fit whose scale is that already."""
    from bold_orchard.inference.prediction.average_effects import average_effects

    if made.design.additive or made.design.graded:
        raise UsageError(
            f"--effects is for outcomes whose mean is not on the linear scale; this fit is {made.design.family}"
        )
    return [AverageEffect.from_dict(row) for row in average_effects(made)]


def show(name: str, *, effects: bool = False, ratios: bool = False, confidence: float | None = None) -> Answer:
    """What ``orchard fit`` printed of a saved fit, without its data.

    Parameters
    ----------
    name : of the fit, or the path of its file.
    effects : average effects on the outcome's own scale too, for which the data are read.
    ratios : odds, rate or hazard ratios too.
    confidence : level of every interval, between 0 and 1 (default: that of the fit).

    Returns
    -------
    Answer
        prints as the page; ``to_frame()`` is a row for each term.

    Raises
    ------
    OrchardError : there is no such fit.
    """
    from bold_orchard.storage.saved_fits import load_document

    document = load_document(name)
    source = document.pop("saved")["data"]
    result = FitResult.from_dict(document).with_keys(source=source)
    if confidence is not None:
        result = with_confidence(result, confidence)
    if effects:
        result = result.with_keys(average_effects=_average_effects(open_fit(name).core))
    if ratios:
        result = with_ratios(result)
    return Answer(
        result, result.converged, wording=texts_of(None if isinstance(result.labels, Absent) else result.labels)
    )


def explain(fit: Model | str, *, label: Sequence[str] = (), digits: int = 4, confidence: float | None = None) -> Answer:
    """A fit in plain sentences.

    Parameters
    ----------
    fit : a fit, or the name of a saved one.
    label : texts "NAME=TEXT" for terms, columns and units.
    digits : significant digits in texts.
    confidence : level of every interval, between 0 and 1 (default: that of the fit).

    Returns
    -------
    Answer
        prints as the page; ``to_frame()`` is a row for each sentence.
    """
    result = show(fit).result if isinstance(fit, str) else fit.result
    return in_words(result, label, digits, confidence)


def matrices(name: str, level: str | None = None) -> dict[str, pd.DataFrame]:
    """X, Z, G, R, their inverses and the mixed-model equations of a saved fit; see ``orchard show --matrices``."""
    return open_fit(name).matrices(level)


def certify(progress: Callable[[int, int], None] | None = None) -> Answer:
    """Reference problems with exact answers, solved here and now; ``converged`` is whether every figure has the digits it needs."""
    from bold_orchard import __version__
    from bold_orchard.certificate.certify import certify as certified

    result = certified(__version__, progress or silent)
    return Answer(result, result.passed)
