"""The laws of the units' effects, in formulas."""

from __future__ import annotations

from typing import Any

from bold_orchard.design.design import Clause
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.notation.symbols import number, total, variable


def effect_lines(
    fit: Fit, clause: Clause, letter: str, index: str, effects: list[str], where: dict[str, str], estimates: bool, digits: int
) -> list[tuple[str, str]]:  # fmt: skip
    """One line: the effects of a clause are normal around zero, with the covariance of its structure."""
    made: dict[str, Any] = fit.result["random"][next(i for i, c in enumerate(fit.design.clauses) if c is clause)]
    unit, names, g = made["group"], made["terms"], made["covariance"]
    for effect, name in zip(effects, names):
        where[effect] = (
            f"what one {unit} adds to the log of the residual SD"
            if name == "spread" and clause.has_spread
            else f"what one {unit} adds to the average {'intercept' if name == 'intercept' else 'effect of ' + name}"
        )
    k, kind = len(names), made["structure"]
    if clause.structure.file is not None and kind == "given":
        where[f"G_{letter}"] = f"the covariance of {', '.join(names)} given in {clause.structure.file}"
        return [(_vector(effects), f"\\sim \\mathcal{{N}}(0, G_{letter})")]
    spread = _variances(letter, names, g, kind, unit, where, estimates, digits)
    if kind == "known":
        where["K"] = (
            f"the covariance between levels of {unit} given in {clause.structure.file}, in which all their effects are correlated"
        )
        spread = f"K \\otimes {spread}" if k > 1 else f"{spread} \\, K"
    if clause.vary is None:
        return [(_vector(effects), f"\\sim \\mathcal{{N}}(0, {spread})")]
    scale = f"\\tau_{{{letter}{index}}}"
    where[scale] = f"by what the SD of one {unit}'s effects exceeds that at zero and the baseline"
    parts = []
    for m, row in enumerate(made["vary"], start=1):
        symbol = f"\\alpha_{{{letter}{m}}}"
        where[symbol] = f"effect of {row['term']} on the log of the SD" + (
            f", estimated as {row['estimate']:.{digits}g}" if estimates else ""
        )
        parts.append(f"{number(row['estimate'], digits) if estimates else symbol} \\, {variable(row['term'], index)}")
    return [
        (_vector(effects), f"\\sim \\mathcal{{N}}(0, {scale}^{{2}} {spread})"),
        (f"\\log {scale}", total(parts)),
    ]


def _vector(effects: list[str]) -> str:
    return effects[0] if len(effects) == 1 else r"\begin{pmatrix} " + r" \\ ".join(effects) + r" \end{pmatrix}"


def _variances(
    letter: str, names: list[str], g: list[list[Any]], kind: str, unit: str, where: dict[str, str], estimates: bool, digits: int
) -> str:  # fmt: skip
    """The variance of one effect, or the matrix of several."""
    k = len(names)
    cells: list[list[str]] = []
    for a in range(k):
        row = []
        for b in range(k):
            low, high = min(a, b), max(a, b)
            place = "" if k == 1 else f"{low}" if low == high or kind == "identity" else f"{low}{high}"
            place = "" if kind == "identity" else place
            symbol = f"\\sigma_{{{letter}{place}}}" + ("^{2}" if low == high else "")
            if low != high and kind in ("diagonal", "identity"):
                row.append("0")
                continue
            what = (
                f"variance of the {names[a]} effects of {unit}"
                if low == high
                else f"covariance of the {names[low]} and {names[high]} effects of {unit}"
            )
            if kind == "identity":
                what = f"variance of every effect of {unit}"
            if a <= b:
                value = g[a][b]
                where[symbol] = what + (f", estimated as {value:.{digits}g}" if estimates and value is not None else "")
            row.append(number(g[a][b], digits) if estimates else symbol)
        cells.append(row)
    if k == 1:
        return cells[0][0]
    return r"\begin{pmatrix} " + r" \\ ".join(" & ".join(row) for row in cells) + r" \end{pmatrix}"
