"""The law of the residuals, in formulas."""

from __future__ import annotations

from bold_orchard.covariance.residuals import residual_structure_of
from bold_orchard.inference.fit import Fit
from bold_orchard.inference.notation.symbols import ROW, Indices, number, total, upright, variable
from bold_orchard.inference.variances.quantities import own_places


def residual_lines(
    fit: Fit, at: Indices, where: dict[str, str], estimates: bool, digits: int, scatter: str | None = None
) -> list[tuple[str, str]]:
    """Normal residuals, what their SD depends on (``scatter``, an effect of the unit, among it), and how those of one unit hang together."""
    design, made, s = fit.design, fit.result["residual"], at.row
    residual, parameters = design.residual, made["parameters"]
    if design.sentence.known is not None:
        error = f"\\varepsilon_{{{s}}}"
        where[error] = "the error of a row, whose SD is known"
        return [(error, f"\\sim \\mathcal{{N}}(0, {upright(design.sentence.known.name)}_{{{s}}}^{{2}})")]
    e, other = f"\\varepsilon_{{{s}}}", f"\\varepsilon_{{{ROW}'{s[1:]}}}"
    where[e] = "the residual of a row"
    told = f", estimated as {made['variance']:.{digits}g}" if estimates else ""
    spread = parameters.get("spread") or scatter
    variance = number(made["variance"], digits) if estimates and not spread else r"\sigma^{2}"
    weight = f" / {upright(str(fit.settings.options.weights))}_{{{s}}}" if fit.settings.options.weights else ""
    if spread:
        where[f"\\sigma_{{{s}}}"] = "the residual SD of a row"
        lines = [
            (e, f"\\sim \\mathcal{{N}}(0, \\sigma_{{{s}}}^{{2}}{weight})"),
            _spread(fit, at, where, estimates, digits, scatter),
        ]
        variance = f"\\sigma_{{{s}}} \\sigma_{{{ROW}'{s[1:]}}}"
    else:
        where[r"\sigma^{2}"] = "variance of the residuals" + told
        lines = [(e, f"\\sim \\mathcal{{N}}(0, {variance}{weight})")]
    if residual.kind == "independent":
        return lines
    rows = f"\\operatorname{{Cov}}({e}, {other})"
    where[other] = f"the residual of another row of the same {residual.unit}"
    if spread and not (residual.by or residual.by_occasion):
        where[f"\\sigma_{{{ROW}'{s[1:]}}}"] = "its SD"
    of_level = f", for each level of {residual.by} its own ({', '.join(residual.levels)})" if residual.by else ""
    if residual.by_occasion:
        where[r"\Sigma_{tt'}"] = (
            f"covariance of the residuals of one {residual.unit} at the occasions {', '.join(residual.labels)}, each free{of_level}"
        )
        return [*lines[1:], (rows, f"\\Sigma_{{tt'}} \\text{{ inside one {residual.unit}}}")]
    if residual.by:
        where[r"R_{g}"] = f"{residual.kind} covariance of the residuals of one {residual.unit}{of_level}"
        return [*lines[1:], (rows, f"R_{{g}} \\text{{ inside one {residual.unit}}}")]
    own: list[str] = []
    for _, parameter, at_psi in own_places(fit):
        value = parameter.at(fit.evaluation.psi[at_psi - parameter.place :])
        where[parameter.symbol] = parameter.meaning.replace("one unit", f"one {residual.unit}") + (
            f", estimated as {value:.{digits}g}" if estimates else ""
        )
        own.append(number(value, digits) if estimates else parameter.symbol)
    columns = [upright(c.name) for c in design.sentence.within.structure.columns] if design.sentence.within else []
    places = tuple((f"{c}_{{{s}}}", f"{c}_{{{ROW}'{s[1:]}}}") for c in columns)
    alike = residual_structure_of(residual.kind).formula(tuple(own) or (upright(residual.kind),), places)
    return [*lines, (rows, f"{variance} {alike} \\text{{ inside one {residual.unit}}}")]


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
