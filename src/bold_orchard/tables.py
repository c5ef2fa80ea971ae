"""A table from whatever has rows and named columns."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from bold_orchard.data.other_formats import frame_table
from bold_orchard.data.read import check_missing_syntax, read_table
from bold_orchard.data.table import Table
from bold_orchard.errors import OrchardError, UsageError, nearest, unknown_name

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["check_missing_syntax", "larger_than", "table"]


def table(
    data: Any, missing: Sequence[str] = (), where: str | None = None, columns: Sequence[str] = (),
    order: Mapping[str, Sequence[str]] | None = None,
) -> Table:  # fmt: skip
    """A table from whatever has rows and named columns.

    Parameters
    ----------
    data : path, pandas or Polars DataFrame, PyArrow table, DuckDB relation, anything with an Arrow C stream, or dict of
        equally long columns; a Table is filtered, and reads what it lacks of the ``columns``.
    missing : codes that mean missing, each "CODE" or "COLUMN=CODE".
    where : an expression; only the rows for which it holds are kept.
    columns : those of a file that will be used, and are read at once; the others are read when they are asked for.
    order : the levels of text columns in their order, by column.

    Raises
    ------
    OrchardError
        for what is no table, with what to give instead.
    """
    if isinstance(missing, str):
        missing = [missing]
    if order:
        return ordered(table(data, missing, where, columns), order)
    if isinstance(data, (str, os.PathLike)):
        return read_table(str(data), [str(m) for m in missing], where, columns)
    made = data if isinstance(data, Table) else frame_table(_frame(data), "the data", [str(m) for m in missing])
    made.data.fetch([c for c in columns if made.has(c)])
    if not where:
        return made
    from bold_orchard.data.evaluate import filter_rows

    return filter_rows(made, where)


def index_of(data: Any) -> Any:
    """The index of a pandas frame that numbers its rows otherwise than 0, 1, ...; else None."""
    index = getattr(data, "index", None)
    if index is None or not hasattr(data, "iloc"):
        return None
    import pandas as pd

    return None if index.equals(pd.RangeIndex(len(index))) else index


def ordered(rows: Table, order: Mapping[str, Sequence[str]]) -> Table:
    """The same rows with the levels of some text columns in the orders given.

    Raises UsageError for a column that is not there or holds numbers, and for levels that are not all named, or named twice.
    """
    for column, levels in order.items():
        if not rows.has(column):
            raise UsageError(unknown_name("column", column, rows.columns, rows.name) + " (in --order)")
        if rows.kind(column) != "category":
            raise UsageError(f"--order: '{column}' holds numbers, which have an order of their own")
        there, named = rows.labels(column).texts, [str(v) for v in levels]
        left = [t for t in there if t not in named]
        if left:
            raise UsageError(f"--order {column} leaves out {', '.join(left[:3])}; name every level, the first first")
        if len(set(named)) < len(named):
            raise UsageError(f"--order {column} names a level twice")
        strange = [n for n in named if n not in there]
        if strange and len(named) > len(there) and nearest(strange[0], there):
            raise UsageError(f"--order {column}: " + unknown_name("level", strange[0], there, f"column '{column}'"))
    return rows.with_orders({c: [str(v) for v in levels] for c, levels in order.items()})


def declared(rows: Table, orders: Mapping[str, Sequence[str]]) -> Table:
    """The same rows with orders that a file of labels declares, of columns that are there, text, and without an order
    of their own; levels that
    have no place come last."""
    made = {}
    for column, levels in orders.items():
        if rows.has(column) and column not in rows.orders and rows.kind(column) == "category":
            there = rows.labels(column).texts
            named = [level for level in levels if level in there]
            made[column] = [*named, *(t for t in rows.labels(column).ordered[0] if t not in named)]
    return rows.with_orders(made) if made else rows


def larger_than(source: str, used: Sequence[str], memory: str | int | None) -> bool:
    """Whether the used columns of a file, a folder or a pattern take more than ``memory``: "2GB", a number of bytes, or a quarter of the machine's."""
    from bold_orchard.data.pieces import bytes_of, needed, quarter_of_memory

    limit = quarter_of_memory() if memory is None else bytes_of(memory)
    return needed(source, used) > limit


def _with_enums(frame: pd.DataFrame, data: Any) -> pd.DataFrame:
    """Columns whose type names all its values in their order, which Arrow does not carry along, as ordered categories."""
    import pandas as pd

    schema = getattr(data, "schema", None)
    kinds = schema.items() if isinstance(schema, Mapping) else ()
    for name, kind in kinds:
        if getattr(kind, "categories", None) is not None and len(kind.categories):
            frame[name] = frame[name].astype(pd.CategoricalDtype(list(kind.categories), ordered=True))
    return frame


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
        import pyarrow

        return _with_enums(pyarrow.table(data).to_pandas(), data)
    for method in ("to_pandas", "df", "to_dataframe"):
        if hasattr(data, method):
            return pd.DataFrame(getattr(data, method)())
    raise OrchardError(
        f"{type(data).__name__} is no table; give a DataFrame, a dict of columns, an Arrow table or the path of a file"
    )
