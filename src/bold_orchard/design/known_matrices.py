"""Matrix files of ``known`` and ``given``: read, checked, ordered."""

from __future__ import annotations

import csv
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bold_orchard.errors import OrchardError, shown

Array = NDArray[Any]


def read_matrix(file: str, what: str) -> tuple[list[str], Array]:
    """Labels and a symmetric matrix (m, m), rows put in the order of the header.

    Raises OrchardError for a file that is not a labelled square, for missing numbers and for asymmetry.
    """
    path = Path(file)
    if path.exists() and not path.is_file():
        raise OrchardError(f"{file} (the {what} matrix) is no ordinary file; give a CSV file")
    try:
        with path.open(newline="", encoding="utf-8-sig") as f:
            records = [r for r in csv.reader(f) if any(c.strip() for c in r)]
    except FileNotFoundError:
        raise OrchardError(
            f"there is no file {file} (the {what} matrix); its path counts from the working folder"
        ) from None
    except (OSError, UnicodeDecodeError, csv.Error):
        raise OrchardError(
            f"{file} (the {what} matrix) cannot be read; give a CSV file with a header and labels"
        ) from None
    if len(records) < 2:
        raise OrchardError(f"{file} holds no matrix; give a header row of labels and one labelled row for each")
    labels = [c.strip() for c in records[0][1:]]
    rows = {r[0].strip(): r[1:] for r in records[1:]}
    if len(set(labels)) != len(labels) or len(rows) != len(records) - 1:
        raise OrchardError(
            f"{file} names a label twice; every label stands once in the header and once in the first column"
        )
    if set(labels) != set(rows):
        odd = sorted(set(labels) ^ set(rows))
        raise OrchardError(
            f"{file} is not square: {', '.join(shown(odd, 3))} stands only in the header or only in a row"
        )
    try:
        matrix = np.array([[float(c) for c in rows[label]] for label in labels])
    except ValueError:
        raise OrchardError(
            f"{file} holds a cell that is not a number; every cell of the {what} matrix must be filled"
        ) from None
    if matrix.shape != (len(labels), len(labels)) or not np.isfinite(matrix).all():
        raise OrchardError(
            f"{file} is not a square matrix of {len(labels)} labels; every row needs {len(labels)} numbers"
        )
    scale = np.abs(matrix).max()
    off = np.argwhere(np.abs(matrix - matrix.T) > 1e-8 * scale)
    if len(off):
        i, j = off[0]
        raise OrchardError(
            f"{file} is not symmetric: ({labels[i]}, {labels[j]}) is {matrix[i, j]:g} but ({labels[j]}, {labels[i]}) {matrix[j, i]:g}"
        )
    return labels, (matrix + matrix.T) / 2


def factor(matrix: Array, file: str, definite: bool) -> Array:
    """A factor L with L L' = matrix; raises when it is not positive (semi-)definite."""
    values, vectors = np.linalg.eigh(matrix)
    least = 1e-10 * max(values[-1], 1e-300)
    if values[0] < -least or (definite and values[0] < least):
        kind = "positive definite" if definite else "positive semi-definite"
        raise OrchardError(f"{file} is not {kind} (its smallest eigenvalue is {values[0]:.3g}), so it is no covariance")
    if values[0] >= least:
        return np.linalg.cholesky(matrix)
    return vectors * np.sqrt(np.maximum(values, 0.0))


def in_order(file: str, labels: list[str], matrix: Array, wanted: list[str], what: str) -> Array:
    """The matrix of exactly the ``wanted`` labels, in their order."""
    missing = [w for w in wanted if w not in labels]
    if missing:
        raise OrchardError(
            f"{file} has no row for the {what} {', '.join(shown(missing, 3))}; it has {', '.join(shown(labels, 5))}"
        )
    extra = [w for w in labels if w not in wanted]
    if extra:
        raise OrchardError(
            f"{file} names {', '.join(shown(extra, 3))}, which is no {what} of the clause ({', '.join(shown(wanted, 5))})"
        )
    at = [labels.index(w) for w in wanted]
    return matrix[np.ix_(at, at)]
