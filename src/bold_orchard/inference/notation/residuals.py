"""The law of the residuals, in formulas."""

from __future__ import annotations

from bold_orchard.inference.fit import Fit
from bold_orchard.inference.notation.symbols import ROW, Indices, number, total, upright, variable


def residual_lines(
    fit: Fit, at: Indices, where: dict[str, str], estimates: bool, digits: int, own: str | None = None
) -> list[tuple[str, str]]:
    """Normal residuals, what their SD depends on (``own``, an effect of the unit, among it), and how those of one unit hang together."""
    design, made, s = fit.design, fit.result["residual"], at.row
    residual, parameters = design.residual, made["parameters"]
    e, other = f"\\varepsilon_{{{s}}}", f"\\varepsilon_{{{ROW}'{s[1:]}}}"
    where[e] = "the residual of a row"
    told = f", estimated as {made['variance']:.{digits}g}" if estimates else ""
    spread = parameters.get("spread") or own
    variance = number(made["variance"], digits) if estimates and not spread else r"\sigma^{2}"
    weight = f" / {upright(str(fit.settings.options.weights))}_{{{s}}}" if fit.settings.options.weights else ""
    if spread:
        lines = [
            (e, f"\\sim \\mathcal{{N}}(0, \\sigma_{{{s}}}^{{2}}{weight})"),
            _spread(fit, at, where, estimates, digits, own),
        ]
        variance = f"\\sigma_{{{s}}} \\sigma_{{{ROW}'{s[1:]}}}"
    else:
        where[r"\sigma^{2}"] = "variance of the residuals" + told
        lines = [(e, f"\\sim \\mathcal{{N}}(0, {variance}{weight})")]
    if residual.kind == "independent":
        return lines
    rho = number(parameters["rho"], digits) if estimates and "rho" in parameters else r"\rho"
    if "rho" in parameters:
        where[r"\rho"] = (
            f"correlation of two residuals of one {residual.unit}"
            + (", one step of time apart" if residual.kind == "ar1" else "")
            + (f", estimated as {parameters['rho']:.{digits}g}" if estimates else "")
        )
    rows = f"\\operatorname{{Cov}}({e}, {other})"
    if residual.kind == "ar1":
        within = design.sentence.within
        column = within.structure.column if within is not None else None
        time = upright("time" if column is None else column.name)
        apart = f"|{time}_{{{s}}} - {time}_{{{ROW}'{s[1:]}}}|"
        return [*lines, (rows, f"{variance} {rho}^{{{apart}}} \\text{{ inside one {residual.unit}}}")]
    if residual.kind == "exchangeable":
        return [*lines, (rows, f"{variance} {rho} \\text{{ inside one {residual.unit}}}")]
    symbol = r"\Sigma_{tt'}"
    where[symbol] = (
        f"covariance of the residuals of one {residual.unit} at the occasions {', '.join(residual.labels)}, each free"
    )
    return [*lines[1:], (rows, f"{symbol} \\text{{ inside one {residual.unit}}}")]


def _spread(
    fit: Fit, at: Indices, where: dict[str, str], estimates: bool, digits: int, own: str | None
) -> tuple[str, str]:
    """log sigma of a row as a sum of the spread clause's columns and the unit's own."""
    design, made = fit.design, fit.result["residual"]
    base = made["sd"]
    where[r"\delta_{0}"] = "log of the residual SD at the baseline" + (f" (SD {base:.{digits}g})" if estimates else "")
    import math

    parts = [number(math.log(base), digits) if estimates else r"\delta_{0}"]
    part = design.residual.spread
    columns = () if part is None else zip(part.names, part.values, made["parameters"]["spread"])
    for k, (name, values, told) in enumerate(columns, start=1):
        symbol = f"\\delta_{{{k}}}"
        value = told["estimate"]
        where[symbol] = f"effect of {name} on the log of the residual SD" + (
            f", estimated as {value:.{digits}g}" if estimates else ""
        )
        parts.append(f"{number(value, digits) if estimates else symbol} \\, {variable(name, at.subscript(values))}")
    return f"\\log \\sigma_{{{at.row}}}", total([*parts, *([own] if own else [])])
