"""Rows of a document that lie in columns: a row is made when it is looked at, so that a million of them cost nothing."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, overload

from bold_orchard.results.plain import clean

Row = dict[str, Any]


class Rows(Sequence[Row]):
    """``columns`` are arrays, ranges or texts of one length; a row has plain values, None where a number is missing."""

    def __init__(self, columns: Mapping[str, Any]) -> None:
        self.columns = dict(columns)

    def __len__(self) -> int:
        return len(next(iter(self.columns.values()), ()))

    def run(self, at: slice) -> dict[str, Any]:
        """Some rows as arrays by column."""
        return {k: list(v[at]) if isinstance(v, range) else v[at] for k, v in self.columns.items()}

    @overload
    def __getitem__(self, at: int) -> Row: ...
    @overload
    def __getitem__(self, at: slice) -> list[Row]: ...
    def __getitem__(self, at: int | slice) -> Row | list[Row]:
        if isinstance(at, slice):
            return self._made(at)
        if not -len(self) <= at < len(self):
            raise IndexError(at)
        return {k: clean(v[at]) for k, v in self.columns.items()}

    def __iter__(self) -> Iterator[Row]:
        yield from self._made(slice(None))

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Sequence) and list(self) == list(other)

    def __hash__(self) -> int:
        return hash(tuple(self.columns))

    def _made(self, at: slice) -> list[Row]:
        lists = [[clean(x) for x in (v.tolist() if hasattr(v, "tolist") else v)] for v in self.run(at).values()]
        names = list(self.columns)
        return [dict(zip(names, row)) for row in zip(*lists)]
