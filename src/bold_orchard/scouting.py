"""Looking at the data: the answer of ``orchard scout``, with the shares of variance that empty models find."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from bold_orchard.answers import Answer
from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.errors import OrchardError
from bold_orchard.inference.fit import Settings
from bold_orchard.inference.fit import fit as fit_table
from bold_orchard.results.scout import ScoutResult, UnitShare
from bold_orchard.tables import declared, table
from bold_orchard.wording import Wording, texts_of

MOST_SHARED = 300_000  # rows up to which an empty model of every unit takes a second at most


def scout(
    data: Any, unit: Sequence[str] = (), *, outcome: str | None = None, missing: Sequence[str] = (),
    where: str | None = None, by: Sequence[str] | str = (), order: Mapping[str, Sequence[str]] | None = None,
    labels: Mapping[str, Any] | str | Wording | None = None,
) -> Answer:  # fmt: skip
    """What the columns are, which of them group the rows, what varies inside a group.

    Parameters
    ----------
    data : a path, frame or dictionary of columns.
    unit : columns that group the rows, to be looked at (default: those found).
    outcome : whose variance is shared out (default: the likeliest).
    missing : codes that mean missing, of all columns, or "COLUMN=CODE".
    where : only rows for which it holds: "season > 2".
    by : columns, "soil+pruning" or a list, in whose cells the outcome is summarised: n, mean, SD.
    order : levels of text columns in their order.
    labels : texts of columns and levels, or a TOML file of them.

    Returns
    -------
    Answer
        prints as the page; ``to_frame()`` is a row for each column.

    Raises
    ------
    OrchardError : data that cannot be read, or columns that are not there.
    """
    from bold_orchard.data.scout import scout as scouted

    units = [unit] if isinstance(unit, str) else list(unit)
    wording = texts_of(labels, data)
    rows = declared(table(data, missing, where, order=order), wording.orders)
    wording.check(rows.columns, rows.name)
    cells = (
        [c.strip() for c in by.split("+")]
        if isinstance(by, str) and not rows.has(by)
        else [by]
        if isinstance(by, str)
        else list(by)
    )
    result = scouted(rows, units, outcome, cells)
    told = {"labels": wording.to_dict()} if wording else {}
    return Answer(result.with_keys(shares=_shares(result, rows, outcome), **told), wording=wording or None)


def _shares(result: ScoutResult, rows: Table, outcome: str | None) -> list[UnitShare]:
    """Of the outcome asked for, or the one of the sentences: the share of its variance at each unit, an empty model each."""
    from bold_orchard.data.scout import without_codes
    from bold_orchard.data.units import columns_of_unit
    from bold_orchard.sentence.tree import column_text

    first = result.sentences[0].split(" = ")[0] if result.sentences else None
    drawn = column_text(outcome) if outcome is not None and rows.has(outcome) else first
    repeats = {n.unit: n.parent for n in result.nesting if n.relation == "labels repeat"}
    shares, clean = [], without_codes(rows)
    units = list(dict.fromkeys([*result.units, *repeats]))
    for unit in units if drawn is not None and len(rows) <= MOST_SHARED else []:
        whole = f"{unit} in {repeats[unit]}" if unit in repeats else unit
        each = " in ".join(map(column_text, columns_of_unit(whole)))
        try:
            made = fit_table(
                f"{drawn} = intercept; each {each}: intercept",
                clean,
                Settings(options=Options(family="gaussian"), df="normal"),
            )
        except OrchardError:
            continue
        between, within = made.evaluation.covariance(0)[0, 0], made.evaluation.sigma2
        if made.converged and between + within > 0:
            shares.append(UnitShare(made.design.outcome, whole, float(between / (between + within))))
    return shares
