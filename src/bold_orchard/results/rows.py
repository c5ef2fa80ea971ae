"""Rows of a document that lie in columns: a row is made when it is looked at, so that a million of them cost nothing."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any, overload

from bold_orchard.results.plain import plain

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
        return {k: plain(v[at]) for k, v in self.columns.items()}

    def __iter__(self) -> Iterator[Row]:
        yield from self._made(slice(None))

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Sequence) and list(self) == list(other)

    def __hash__(self) -> int:
        return hash(tuple(self.columns))

    def _made(self, at: slice) -> list[Row]:
        lists = [[plain(x) for x in (v.tolist() if hasattr(v, "tolist") else v)] for v in self.run(at).values()]
        names = list(self.columns)
        return [dict(zip(names, row)) for row in zip(*lists)]


class Entries(Sequence[Any]):
    """Parts of a document of which there may be very many: nothing is made before somebody looks.

    ``make`` gives all of them as plain rows (no NaN, nothing of NumPy); one that is looked at becomes an object of ``kind``.
    """

    def __init__(self, kind: Any, n: int, make: Callable[[], list[Row]]) -> None:
        self.kind, self.n, self._make = kind, n, make

    @cached_property
    def _rows(self) -> list[Row]:
        return self._make()

    def plain(self) -> list[Row]:
        """All as they stand in the document."""
        return list(self._rows)

    def __len__(self) -> int:
        return self.n

    @overload
    def __getitem__(self, at: int) -> Any: ...
    @overload
    def __getitem__(self, at: slice) -> list[Any]: ...
    def __getitem__(self, at: int | slice) -> Any:
        if isinstance(at, slice):
            return [self.kind.from_dict(row) for row in self._rows[at]]
        return self.kind.from_dict(self._rows[at])

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Sequence) and list(self) == list(other)

    def __hash__(self) -> int:
        return hash(self.n)
