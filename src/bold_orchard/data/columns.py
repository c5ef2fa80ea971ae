"""The columns of a table: numbers as arrays, texts as codes into their distinct values; read when they are asked for."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.data.to_arrow import arrow_of

if TYPE_CHECKING:
    import pandas as pd

Array = NDArray[Any]
MANY = 50_000  # values from which hashing by the Arrow library beats sorting
BLANK = r"[^\S\x1c-\x1f]*"  # what float() takes off, too: it leaves these separators, which \s has
NUMBER = re.compile(
    rf"{BLANK}[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?{BLANK}|{BLANK}[+-]?inf(inity)?{BLANK}", re.IGNORECASE
)
LEADING_ZERO = re.compile(r"0\d+")
EXACT = 2**53  # whole numbers up to which a float holds each
WHOLE = re.compile(rf"{BLANK}[+-]?\d+{BLANK}")


@dataclass(frozen=True)
class Texts:
    """A text column: ``codes`` (n,) into ``raw``, its distinct values in order of appearance; -1 where it is missing.

    ``order`` are its levels as the data themselves declare their order (ordered categories), empty where they do not.
    """

    codes: NDArray[np.intp]
    raw: NDArray[Any]
    order: tuple[str, ...] = ()

    def __len__(self) -> int:
        return len(self.codes)

    def values(self) -> Array:
        """The texts themselves, (n,), None where missing."""
        return self[:]

    def __getitem__(self, at: Any) -> Any:
        """The texts of some rows: of a slice or places an array, of one place the text."""
        known = np.empty(len(self.raw) + 1, dtype=object)
        known[:-1], known[-1] = self.raw, None
        return known[self.codes[at]]


Column = NDArray[Any] | Texts


def taken(column: Column, keep: Array) -> Column:
    """Some rows of a column, by a mask or by positions; texts that are left without a row go."""
    if not isinstance(column, Texts):
        return column[keep]
    return in_order(column.codes[keep], column.raw, column.order)


def in_order(codes: Array, raw: Array, order: tuple[str, ...] = ()) -> Texts:
    """Texts numbered in the order of appearance, without those that no row has; codes of -1 stay missing."""
    own, distinct = factorize(codes)
    lost = np.flatnonzero(distinct < 0)
    if len(lost):
        place = np.arange(len(distinct)) - (np.arange(len(distinct)) > lost[0])
        place[lost[0]] = -1
        own, distinct = place[own], np.delete(distinct, lost[0])
    return Texts(own.astype(np.intp), raw[distinct], order)


def factorize(values: Array) -> tuple[NDArray[np.intp], Array]:
    """Codes (n,) into the distinct values, in order of appearance; NaN has code -1."""
    if len(values) > MANY:
        import pyarrow

        made = arrow_of(values).dictionary_encode()
        codes, known = buffers_of(pyarrow.chunked_array([made.indices]), np.dtype(np.int32))
        distinct, _ = buffers_of(pyarrow.chunked_array([made.dictionary]), values.dtype)
        return (codes if known is None else np.where(known, codes, -1)).astype(np.intp), distinct
    known = ~np.isnan(values) if values.dtype.kind == "f" else np.ones(len(values), dtype=bool)
    distinct, first, inverse = np.unique(values[known], return_index=True, return_inverse=True)
    order = np.argsort(first, kind="stable")
    place = np.empty(len(order), dtype=np.intp)
    place[order] = np.arange(len(order))
    codes = np.full(len(values), -1, dtype=np.intp)
    codes[known] = place[inverse.ravel()]
    return codes, distinct[order]


def buffers_of(chunked: Any, kind: np.dtype[Any]) -> tuple[Array, NDArray[np.bool_] | None]:
    """The numbers themselves (n,), and which are there (None: all), straight from memory: no other library is woken for it."""
    parts, masks = [], []
    for chunk in chunked.chunks:
        bits, data = chunk.buffers()[0], chunk.buffers()[-1]
        stop = chunk.offset + len(chunk)
        parts.append(
            np.frombuffer(data, dtype=kind, count=stop)[chunk.offset :] if len(chunk) else np.zeros(0, dtype=kind)
        )
        if chunk.null_count:
            every = np.unpackbits(np.frombuffer(bits, dtype=np.uint8), bitorder="little", count=stop)
            masks.append(every[chunk.offset :].astype(bool))
        else:
            masks.append(np.ones(len(chunk), dtype=bool))
    values = parts[0] if len(parts) == 1 else np.concatenate(parts) if parts else np.zeros(0, dtype=kind)
    return values, np.concatenate(masks) if chunked.null_count else None


class Columns(Mapping[str, Column]):
    """Columns by name; those not held are fetched by ``load``, which takes names and gives columns, when first asked for."""

    def __init__(
        self,
        names: Sequence[str],
        n: int,
        held: dict[str, Column],
        load: Callable[[list[str]], dict[str, Column]] | None = None,
    ) -> None:
        self.names, self.n, self.held, self._load = tuple(names), n, held, load
        self._known = frozenset(self.names)
        self._finite: dict[str, bool] = {}

    def __getitem__(self, name: str) -> Column:
        if name not in self.held:
            if name not in self._known or self._load is None:
                raise KeyError(name)
            self.fetch([name])
        return self.held[name]

    def fetch(self, names: Sequence[str]) -> None:
        """Read several columns together."""
        wanted = [n for n in names if n not in self.held]
        if wanted and self._load is not None:
            self.held |= self._load(wanted)

    def all_finite(self, name: str) -> bool:
        """Whether a column holds numbers without a gap, none of them so large that squares overflow; looked at once."""
        if name not in self._finite:
            values = self[name]
            with np.errstate(all="ignore"):
                self._finite[name] = not isinstance(values, Texts) and bool(
                    values.dtype.kind in "iu" or np.isfinite(np.dot(values, values))
                )
        return self._finite[name]

    def several(self, names: Sequence[str]) -> dict[str, Column]:
        """Columns read together."""
        self.fetch(names)
        return {c: self[c] for c in names}

    def __iter__(self) -> Iterator[str]:
        return iter(self.names)

    def __len__(self) -> int:
        return len(self.names)

    def __contains__(self, name: object) -> bool:
        return name in self._known

    def __getstate__(self) -> dict[str, Any]:
        """All columns, held: what is read when asked for cannot be read elsewhere."""
        self.fetch(self.names)
        return self.__dict__ | {"_load": None}

    def take(self, keep: Array) -> Columns:
        """Some rows, by a mask or by positions, of each column as it is asked for."""
        n = int(np.count_nonzero(keep)) if keep.dtype == bool else len(keep)
        return Columns(self.names, n, {}, lambda names: {c: taken(v, keep) for c, v in self.several(names).items()})

    def replaced(self, made: Mapping[str, Column]) -> Columns:
        """The same with some columns changed or added."""
        names = [*self.names, *(c for c in made if c not in self._known)]
        return Columns(names, self.n, dict(made), self.several)

    def only(self, names: Sequence[str]) -> Columns:
        """Some of the columns."""
        held = {n: self.held[n] for n in names if n in self.held}
        return Columns(names, self.n, held, self.several)

    def frame(self) -> pd.DataFrame:
        """All of them as a pandas DataFrame."""
        import pandas as pd

        self.fetch(self.names)
        made = {c: v.values() if isinstance(v, Texts) else v for c, v in ((c, self[c]) for c in self.names)}
        return pd.DataFrame(made, index=range(self.n))


def of_frame(frame: pd.DataFrame) -> Columns:
    """The columns of a pandas DataFrame whose kinds are already numbers or texts."""
    return Columns([str(c) for c in frame.columns], len(frame), {str(c): of_series(frame[c]) for c in frame.columns})


def of_series(series: Any) -> Column:
    if series.dtype.kind in "iuf":
        if series.dtype.kind in "iu" and (large := series.dropna().abs()).size and int(large.max()) > EXACT:
            return of_array(np.array([None if absent(v) else str(v) for v in series.astype(object)], dtype=object))
        values = series.to_numpy()
        return values if values.dtype.kind in "iuf" else series.to_numpy(dtype=np.float64, na_value=np.nan)
    import pandas as pd

    if not series.notna().any():
        return np.full(len(series), np.nan)
    codes, raw = pd.factorize(series)
    ordered = isinstance(series.dtype, pd.CategoricalDtype) and series.dtype.ordered
    order = tuple(map(str, series.dtype.categories)) if ordered else ()
    return Texts(np.asarray(codes, dtype=np.intp), np.asarray(raw, dtype=object), order)


def of_mapping(columns: Mapping[str, Any], n: int) -> Columns:
    """Arrays of n numbers or texts each."""
    made = {str(c): v if isinstance(v, Texts) else of_array(np.asarray(v)) for c, v in columns.items()}
    return Columns(list(made), n, made)


def absent(value: Any) -> bool:
    """None, or a number that is none."""
    return value is None or (isinstance(value, float) and bool(np.isnan(value))) or type(value).__name__ == "NAType"


def of_array(values: Array) -> Column:
    """Numbers as they are, anything else as texts, None where missing."""
    if values.dtype.kind in "iuf":
        return values
    place: dict[Any, int] = {}
    codes = np.array([-1 if absent(v) else place.setdefault(v, len(place)) for v in values.tolist()], dtype=np.intp)
    raw = np.empty(len(place), dtype=object)
    raw[:] = list(place)
    return Texts(codes, raw)


# -- texts that are numbers


def of_cells(cells: Sequence[str], missing: Sequence[str], decimal: str = ".", as_text: bool = False) -> Column:
    """A column of cells as they stand in a file: numbers where every cell that is not missing is one, else texts."""
    codes = set(missing)
    if as_text:
        return of_array(np.array([None if c in codes else c for c in cells], dtype=object))
    present = [c for c in cells if c not in codes]
    if decimal != ".":
        present = [c.replace(decimal, ".") for c in present]
    numbers = numbers_of(present)
    if numbers is None:
        return of_array(np.array([None if c in codes else c for c in cells], dtype=object))
    if len(present) == len(cells):
        return without_codes(numbers, missing)
    out = np.full(len(cells), np.nan)
    out[[i for i, c in enumerate(cells) if c not in codes]] = numbers
    return without_codes(out, missing)


def is_number(text: str) -> bool:
    """Whether a cell or a code is a number as files write it."""
    return NUMBER.fullmatch(text) is not None


def numbers_of(texts: Sequence[str]) -> Array | None:
    """The texts as whole numbers or as floats; None where one is no number, and where they are labels made of digits: one begins with a
    zero, or whole numbers are so large that a float would make several of them one.
    """
    whole, match = True, NUMBER.fullmatch
    for t in texts:
        if match(t) is None or LEADING_ZERO.fullmatch(t) is not None:
            return None
        whole = whole and WHOLE.fullmatch(t) is not None
    if whole and texts:
        made = [int(t) for t in texts]
        return None if max(map(abs, made)) > EXACT else np.array(made, dtype=np.int64)
    return np.array([float(t) for t in texts], dtype=np.float64)


def without_codes(values: Array, missing: Sequence[str]) -> Array:
    """Numbers with those that equal a missing code taken out, however the code is written."""
    numbers = [float(c) for c in missing if is_number(c)]
    if not numbers:
        return values
    hit = np.isin(values, numbers)
    if not hit.any():
        return values
    out = values.astype(np.float64)
    out[hit] = np.nan
    return out


def texts_or_numbers(column: Texts, missing: Sequence[str], decimal: str = ".") -> Column:
    """A text column turned into numbers where all its distinct values are (" 5", "+5"), or has none."""
    texts = [str(t) for t in column.raw]
    if decimal != ".":
        texts = [t.replace(decimal, ".") for t in texts]
    numbers = numbers_of(texts)
    if numbers is None:
        return column
    if (column.codes >= 0).all():
        return without_codes(numbers[column.codes], missing)
    return without_codes(np.append(numbers.astype(np.float64), np.nan)[column.codes], missing)
