"""Posteriors as a person asks for them: drawn, kept, opened again, set beside one another."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bold_orchard.answers import Answer
from bold_orchard.errors import OrchardError, UsageError

if TYPE_CHECKING:
    from bold_orchard.data.table import Table
    from bold_orchard.inference.fit import Fit
    from bold_orchard.sampling.answers.draws import Draws

SEED = 20260101  # that of the command line
ENDING = ".posterior.json"
# keys that posteriors kept before 1.0.0 have under other names
RENAMED = {"ess_bulk": "effective_bulk", "ess_tail": "effective_tail", "rhat": "r_hat", "energy_bfmi": "energy_fraction", "elpd": "expected_log_density",
           "p_loo": "effective_parameters"}  # fmt: skip


def sample(
    fit: Fit, *, prior: Sequence[str] = (), prior_only: bool = False, chains: int = 4, warmup: int = 1000, draws: int = 1000,
    kind: str = "trace", confidence: float | None = None, seed: int = SEED, compare: Sequence[str] = (),
    progress: Callable[[int, int, int], None] | None = None,
) -> Answer:  # fmt: skip
    """Draws from the posterior of a fit's model; see ``orchard sample``. ``figure()`` draws the ``kind`` of picture.

    Raises UsageError for priors and numbers that cannot be, OrchardError for a fit that cannot be sampled from.
    """
    from bold_orchard.sampling.posterior import SampleOptions
    from bold_orchard.sampling.posterior import sample as sampled
    from bold_orchard.sampling.prior_only import prior_draws

    fit.needs_rows("sample")
    fit.needs_factor("sample", "its estimates are of so many rows that a posterior would hardly differ")
    given = [prior] if isinstance(prior, str) else list(prior)
    options = SampleOptions(tuple(given), chains, warmup, draws, seed, fit.level(confidence))
    made = (prior_draws if prior_only else sampled)(fit, options, progress or (lambda done, total, bad: None))
    made = made.with_keys(compared=_compared(made.document, compare)) if compare else made
    return Answer(made, made.converged, draws={"kind": kind}, wording=fit.settings.wording)


def open_posterior(name: str, compare: Sequence[str] = ()) -> Answer:
    """A posterior kept by ``save``; its draws themselves are not in it."""
    from bold_orchard.results.sample import SampleResult

    made = SampleResult.from_dict(_document(name))
    made = made.with_keys(compared=_compared(made.document, compare)) if compare else made
    return Answer(made, made.converged)


def _document(name: str) -> dict[str, Any]:
    from bold_orchard.storage.shape import LEFT_OUT, POSTERIOR, fault

    path = Path(name) if name.endswith(ENDING) else Path(name + ENDING)
    try:
        document: Any = json.loads(path.read_text(encoding="utf-8"))
    except (OSError, ValueError, RecursionError):
        document = None
    if not isinstance(document, dict) or document.get("schema") != "bold-orchard/sample/1":
        raise OrchardError(f"{path} is not a kept posterior; make one with: orchard sample FIT --save NAME")
    document = _renamed(document)
    left_out = document.get("leave_one_out")
    wrong = fault(document, POSTERIOR) or (left_out and fault(left_out, LEFT_OUT, "leave_one_out"))
    if wrong:
        raise OrchardError(f"{path} is broken or was edited ({wrong}); sample again")
    return document


def _renamed(document: dict[str, Any]) -> dict[str, Any]:
    """A document of before 1.0.0 under the present keys; one of now as it is."""
    parameters, left_out = document.get("parameters"), document.get("leave_one_out")
    for part in [document, left_out, *(parameters if isinstance(parameters, list) else [])]:
        for old, new in RENAMED.items():
            if isinstance(part, dict) and old in part and new not in part:
                part[new] = part.pop(old)
    return document


def _compared(own: dict[str, Any], others: Sequence[str]) -> list[dict[str, Any]]:
    """Differences of leave-one-out, row by row, with their standard errors; the other less this one."""
    import numpy as np

    out = []
    for name in others:
        other = _document(name)
        here, there = own["leave_one_out"], other["leave_one_out"]
        rows = [x.get("by_row") if x else None for x in (here, there)]
        if not rows[0] or not rows[1] or own["outcome"] != other["outcome"] or len(rows[0]) != len(rows[1]):
            raise OrchardError(
                f"{name} and this posterior do not foretell the same rows of one outcome; sample both from fits of the same data"
            )
        difference = np.array(rows[1], dtype=float) - np.array(rows[0], dtype=float)
        doubtful = sorted({*here["doubtful_rows"], *there["doubtful_rows"]})
        out.append({"posterior": Path(name).name.removesuffix(ENDING), "model": other["model"], "elpd_difference": float(difference.sum()),
                    "se": float(np.sqrt(len(difference) * difference.var(ddof=1))), "doubtful_rows": doubtful})  # fmt: skip
    return out


def save(answer: Answer, name: str) -> Path:
    """Keep a posterior as NAME.posterior.json."""
    from bold_orchard.storage.files import write_text

    path = Path(name if name.endswith(ENDING) else name + ENDING)
    write_text(path, json.dumps(answer.document, indent=1, allow_nan=False) + "\n")
    return path


def keep(answer: Answer, name: str) -> Path:
    """Write every draw, one row each: chain, draw, every parameter and predicted effect, as .parquet, .arrow or .csv."""
    from bold_orchard.storage.files import write_columns, write_safely

    result: Any = answer.result
    if result.arrays is None:
        raise UsageError("the draws themselves were not kept; sample again")
    columns, path = result.kept(), Path(name)
    ending = path.suffix.lower()
    if ending == ".csv":
        write_safely(path, lambda p: write_columns(p, columns))
        return path
    import pyarrow as pa

    from bold_orchard.data.to_arrow import arrow_of

    table = pa.table({name: arrow_of(column) for name, column in columns.items()})
    if ending == ".parquet":
        import pyarrow.parquet as pq

        write_safely(path, lambda p: pq.write_table(table, p))
    else:
        from pyarrow import feather

        write_safely(path, lambda p: feather.write_feather(table, p, compression="uncompressed"))
    return path


def contrasts(fit: Fit, posterior: Answer | str, refused: dict[str, Any], texts: Sequence[str], level: float) -> Answer:
    """``terms --contrast`` from draws."""
    from bold_orchard.sampling.answers import coefficients

    draws = draws_of(fit, posterior, refused)
    return Answer(coefficients.contrasts(draws, texts, level), not draws.warnings, wording=fit.settings.wording)


def means(
    fit: Fit, posterior: Answer | str, refused: dict[str, Any], view: dict[str, Any], term: str | None,
    held: dict[str, Any], level: float, slope: str | None, within: str | None,
    ratios: bool, outcomes: Sequence[str] = (),
) -> Answer:  # fmt: skip
    """``means`` from draws, of a term or of all of them; of several ``outcomes`` each."""
    from dataclasses import replace

    from bold_orchard.inference.coefficients.means import terms_with_means
    from bold_orchard.results.means import of_all_outcomes, of_all_terms
    from bold_orchard.sampling.answers import coefficients

    fit.needs_one_predictor("means --posterior")
    draws = draws_of(fit, posterior, refused)
    each = []
    for own in [replace(draws, fit=fit.of(name)) for name in outcomes] or [draws]:
        terms = terms_with_means(own.fit) if term is None else [term]
        each.append(of_all_terms([coefficients.means(own, t, held, level, slope, within, ratios) for t in terms]))
    whole = of_all_outcomes(each, fit.design.outcome) if outcomes else each[0]
    return Answer(whole, not draws.warnings, view, wording=fit.settings.wording)


def components(fit: Fit, posterior: Answer | str, refused: dict[str, Any], level: float) -> Answer:
    """``components`` from draws."""
    from bold_orchard.sampling.answers import variation

    draws = draws_of(fit, posterior, refused)
    return Answer(variation.components(draws, level), not draws.warnings, wording=fit.settings.wording)


def groups(fit: Fit, posterior: Answer | str, level: float) -> Answer:
    """``groups`` from draws."""
    from bold_orchard.sampling.answers import groups

    draws = draws_of(fit, posterior)
    return Answer(groups.groups(draws, level), not draws.warnings, wording=fit.settings.wording)


def predict(fit: Fit, posterior: Answer | str, rows: Table, level: float, new_observation: bool, seed: int) -> Answer:
    """``predict`` from draws."""
    from bold_orchard.sampling.answers import predictions

    fit.needs_one_predictor("predict --posterior")
    draws = draws_of(fit, posterior)
    return Answer(
        predictions.predict(draws, rows, level, new_observation, seed), not draws.warnings, wording=fit.settings.wording
    )


def draws_of(fit: Fit, posterior: Answer | str, refused: dict[str, Any] | None = None) -> Draws:
    """The draws of a posterior of this fit: of an answer just made, or of a file that ``keep`` wrote.

    Raises UsageError for ``refused`` options that are set: they have no meaning beside draws; OrchardError for a file that cannot be read or
    holds another model's draws.
    """
    from bold_orchard.sampling.answers.draws import Draws

    given = [name for name, value in (refused or {}).items() if value]
    if given:
        raise UsageError(
            f"--{given[0]} is of the likelihood and has no meaning beside --posterior; leave one of them out"
        )
    if not isinstance(posterior, Answer):
        return Draws(fit, _read(str(posterior)), str(posterior)).checked()
    result: Any = posterior.result
    if getattr(result, "arrays", None) is None:
        raise UsageError("this posterior was opened again, without its draws; sample again")
    return Draws(fit, result.kept(), result.document["fit"]).checked()


def _read(name: str) -> dict[str, Any]:
    """Columns of a file of draws."""
    if name.endswith(ENDING):
        raise UsageError(f"{name} holds no draws; name the file that orchard sample FIT --keep FILE wrote")
    import pyarrow as pa
    from pyarrow import csv, feather, parquet

    readers = {".parquet": parquet.read_table, ".arrow": feather.read_table, ".csv": csv.read_csv}
    read = readers.get(Path(name).suffix.lower())
    if read is None:
        raise UsageError(
            f"--posterior takes a file that orchard sample --keep wrote ({', '.join(readers)}), not '{name}'"
        )
    try:
        table = read(name)
        return {c: table.column(c).to_numpy(zero_copy_only=False) for c in table.column_names}
    except (OSError, pa.ArrowInvalid, UnicodeDecodeError, KeyError) as e:  # names that are no UTF-8, or stand twice
        why = "there is no such file" if isinstance(e, FileNotFoundError) else "it is broken or no table"
        raise OrchardError(f"{name} cannot be read: {why}; make it with: orchard sample FIT --keep {name}") from None
