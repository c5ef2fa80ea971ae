"""Columns as the Arrow library's, byte for byte: its own conversion would load pandas first, half a second of it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    import pyarrow

Array = NDArray[Any]
MOST_BYTES = 2**31 - 1  # of texts in one array whose places are 32-bit numbers


def arrow_of(column: Any) -> pyarrow.Array:
    """An array of numbers, truths or texts, or a column of texts (``codes``, ``raw``), NaN and None missing; what else there is, by Arrow's own hand."""
    import pyarrow as pa

    if hasattr(column, "raw"):
        texts = _texts(column.raw.tolist())
        if texts is not None:
            return texts.take(_numbers(np.ascontiguousarray(column.codes), column.codes < 0))
        column = column[:]
    values = np.asarray(column)
    if values.dtype.kind == "O":
        texts = _texts(values.tolist())
        return pa.array(values, from_pandas=True) if texts is None else texts
    if values.dtype.kind == "b":
        return pa.Array.from_buffers(
            pa.bool_(), len(values), [None, pa.py_buffer(np.packbits(values, bitorder="little"))]
        )
    if values.dtype.kind not in "iuf" or not values.dtype.isnative:
        return pa.array(values, from_pandas=True)
    return _numbers(np.ascontiguousarray(values), np.isnan(values) if values.dtype.kind == "f" else None)


def _numbers(values: Array, lost: NDArray[np.bool_] | None) -> pyarrow.Array:
    import pyarrow as pa

    return pa.Array.from_buffers(pa.from_numpy_dtype(values.dtype), len(values), [_there(lost), pa.py_buffer(values)])


def _there(lost: NDArray[np.bool_] | None) -> Any:
    """The bits of what is not missing; None where nothing is."""
    import pyarrow as pa

    if lost is None or not lost.any():
        return None
    return pa.py_buffer(np.packbits(~lost, bitorder="little"))


def _texts(texts: list[Any]) -> pyarrow.Array | None:
    """Texts (None where missing); None where they are not all texts, or too long for one array."""
    import pyarrow as pa

    if not all(t is None or type(t) is str for t in texts):
        return None
    coded = [b"" if t is None else t.encode("utf-8", "surrogatepass") for t in texts]
    places = np.zeros(len(coded) + 1, dtype=np.int64)
    np.cumsum([len(t) for t in coded], out=places[1:])
    if places[-1] > MOST_BYTES:
        return None
    buffers = [
        _there(np.array([t is None for t in texts], dtype=bool)),
        pa.py_buffer(places.astype(np.int32)),
        pa.py_buffer(b"".join(coded)),
    ]
    return pa.Array.from_buffers(pa.string(), len(coded), buffers)
