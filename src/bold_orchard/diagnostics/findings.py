"""What the checks say: one finding per check, and the closing words."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import special

from bold_orchard.design.differing_units import MOST_ABOVE, not_above
from bold_orchard.diagnostics.influence import Influence
from bold_orchard.inference.fit import Fit
from bold_orchard.sentence.edit import with_clause, with_curve, with_outcome, with_unit, with_within
from bold_orchard.sentence.tree import OwnSpread, Term, Text, column_text, columns_of

Array = NDArray[Any]
SUSPECT = 0.01  # p below which a check speaks: a dozen checks of a good fit then speak once in eight
# from so many values a test finds departures that matter to nobody, unless skewness or excess kurtosis are as large
MANY, SMALL_SKEW, SMALL_TAILS = 1000, 0.3, 0.5
FEW_LEVELS = 20  # levels below which a test of their normality has hardly any power
HIGH_COOK, HIGH_COMPONENTS = 1.0, 2.0  # distances at which a unit moves the estimates out of their own 50% region
# added to the bound of components over the number of levels where there is no residual variance to share with: 1 to 2 in 100 clean sets of 6 to 40
# levels then pass it
FEW_UNITS = 40.0
WEAK = 0.05  # rank correlation below which spread along fitted values does no harm


@dataclass(frozen=True)
class Finding:
    """``speaks`` when the check found a fault; ``words`` what was seen, ``advice`` what to try (empty when all is well)."""

    check: str
    where: str
    speaks: bool
    words: str
    advice: str = ""


def document_of(findings: list[Finding]) -> list[dict[str, Any]]:
    return [asdict(f) for f in findings]


def closing(findings: list[Finding]) -> dict[str, list[str]]:
    """Three lists of sentences: what looks fine, what does not, what to try."""
    return {
        "fine": [f.words for f in findings if not f.speaks],
        "doubtful": [f.words for f in findings if f.speaks],
        "try": list(dict.fromkeys(f.advice for f in findings if f.speaks and f.advice)),
    }


def shape_findings(fit: Fit, levels: list[dict[str, Any]]) -> Iterator[Finding]:
    """Shapiro-Wilk of the rows and of each term's effects, these together at the level of one test."""
    rows = levels[0]
    what = "randomised quantile residuals" if rows["residuals"] == "quantile" else "row residuals"
    yield _shape("shape of rows", "rows", what, rows, SUSPECT, _rows_advice(fit, rows))
    effects = [e for e in levels[1:] if e["residuals"] == "predicted effects"]
    for entry in effects:
        name = f"{entry['level']}: {entry['term']}"
        advice = (
            f"a predictor that belongs to the {entry['level']} may be missing, or a few of its levels stand apart: "
            "orchard groups FIT --figure groups.png"
        )
        made = _shape("shape of effects", name, f"{entry['level']} effects of {entry['term']}", entry,
                      SUSPECT / len(effects), advice)  # fmt: skip
        few = entry["n"] < FEW_LEVELS and entry["shapiro"] and not made.speaks
        yield (
            made
            if not few
            else Finding(
                made.check, name, False, f"{made.words} (of {entry['n']} levels only gross departures can be seen)"
            )
        )


def _shape(check: str, where: str, what: str, entry: dict[str, Any], level: float, advice: str) -> Finding:
    test, skew, tails = entry["shapiro"], entry["skewness"], entry["kurtosis"]
    if test is None:
        return Finding(check, where, False, f"the {what} are all alike or too few to judge")
    if test["p"] >= level:
        return Finding(check, where, False, f"the {what} look normal (Shapiro-Wilk p {equals(test['p'])})")
    if entry["n"] > MANY and abs(skew) < SMALL_SKEW and abs(tails) < SMALL_TAILS:
        words = f"the {what} depart from the normal by little, found only because they are many (p {equals(test['p'])})"
        return Finding(check, where, False, words)
    how = [f"a long tail to the {'right' if skew > 0 else 'left'}"] if abs(skew) >= SMALL_SKEW else []
    how += ["heavy tails"] if tails > SMALL_TAILS else []
    shape = " and ".join(how) or "a shape that is not normal"
    return Finding(check, where, True, f"the {what} have {shape} (Shapiro-Wilk p {equals(test['p'])})", advice)


def _rows_advice(fit: Fit, rows: dict[str, Any]) -> str:
    if not fit.design.additive:
        return "another --family or --link, or a predictor that is missing"
    if (rows["skewness"] or 0.0) > SMALL_TAILS and _positive(fit):
        return _logarithm(fit)
    if rows["kurtosis"] is not None and rows["kurtosis"] > SMALL_TAILS and _plain(fit):
        return (
            "look at the farthest rows; --family student gives rows far off less weight and says by how much the estimates bear "
            "heavy tails"
        )
    return "look at the farthest rows; the estimates bear heavy tails, but single rows weigh more than they should"


def spread_findings(
    fit: Fit, across: list[tuple[str, dict[str, Any] | None]], along: dict[str, Any] | None
) -> Iterator[Finding]:
    """Brown-Forsythe across the levels of every unit, Spearman along the fitted values."""
    tested = [(unit, test["p"]) for unit, test in across if test is not None]
    for unit, p in tested:
        if p < SUSPECT / len(tested):
            yield Finding("spread across units", unit, True,
                          f"the residual spread differs between levels of {unit} (Brown-Forsythe p {equals(p)})",
                          f"find what levels of {unit} with wide residuals share and let the spread depend on it: "
                          f"{fit.design.sentence.source}; spread = THAT COLUMN" + _own_spread(fit, unit)
                          if fit.design.residual.spread is None and fit.design.additive
                          else _own_spread(fit, unit).removeprefix("  or: ") or f"look for what levels of {unit} with wide residuals share")  # fmt: skip
        else:
            yield Finding("spread across units", unit, False,
                          f"the residual spread is much the same in every {unit} (Brown-Forsythe p {equals(p)})")  # fmt: skip
    if along is None:
        return
    speaks = along["p"] < SUSPECT and abs(along["value"]) >= WEAK
    way = "grows" if along["value"] > 0 else "shrinks"
    if speaks:
        advice = (
            _logarithm(fit)
            if along["value"] > 0 and _positive(fit)
            else "another scale of the outcome, or a spread clause"
        )
        if not fit.design.additive:
            advice = "another --family: its variance does not follow the mean as the rows do"
        words = f"the residual spread {way} with the fitted values (rank correlation {along['value']:+.2f}, p {equals(along['p'])})"
        yield Finding("spread with fitted", "rows", True, words, advice)
    else:
        yield Finding("spread with fitted", "rows", False, f"the spread does not follow the fitted values (p {equals(along['p'])})")  # fmt: skip


def _own_spread(fit: Fit, unit: str) -> str:
    """The sentence in which each level of the unit has a residual spread of its own, where that can be fitted."""
    sentence = fit.design.sentence
    mine = [i for i, e in enumerate(sentence.each) if str(e.unit) == unit]
    places = [i for i in mine if sentence.each[i].structure.kind in ("unstructured", "diagonal")]
    plain = not any(e.has_spread or e.vary for e in sentence.each) and sentence.within is None
    if not (fit.design.additive and plain and len(places) == len(mine) > 0 and _goes_above(fit, mine[0])):
        return ""
    return f"  or: {with_clause(sentence, places[0], (*sentence.each[places[0]].terms, Term((OwnSpread(),)))).source}"


def _goes_above(fit: Fit, place: int) -> bool:
    """Whether effects of all other units may stand beside a spread of the unit in each clause number ``place``."""
    design = fit.design
    own = design.clauses[place]
    others = [c for c in design.clauses if c.block != own.block]
    blocks = [design.blocks[f] for f in sorted({c.block for c in others})]
    few = sum(len(c.part.names) for c in others) <= MOST_ABOVE
    return len(blocks) <= 1 and few and not any(not_above(design.units[own.unit], b) for b in blocks)


def left_out_finding(fit: Fit, unit: str, test: dict[str, Any], tests: int = 1) -> Finding:
    """Whether rows of one level of a unit that the model lacks, one of several ``tests``, are alike beyond what it explains."""
    if test["p"] >= SUSPECT / tests:
        words = f"rows of one {unit} are no more alike than others (F {test['value']:.2f}, p {equals(test['p'])})"
        return Finding("left-out unit", unit, False, words)
    words = f"rows of one {unit} are more alike than the model says (F {test['value']:.2f}, p {equals(test['p'])})"
    return Finding("left-out unit", unit, True, words, with_unit(fit.design.sentence, unit).source)


def curvature_findings(fit: Fit, tested: list[dict[str, Any]]) -> Iterator[Finding]:
    known = [c for c in tested if c["p"] is not None]
    for c in known:
        name = c["predictor"]
        if c["p"] < SUSPECT / len(known):
            words = f"the outcome bends along {name}: its square would add to the model (p {equals(c['p'])})"
            yield Finding("curvature", name, True, words, f"a curve: {_bent(fit, name)}")
        else:
            yield Finding("curvature", name, False, f"no curve is left along {name} (p {equals(c['p'])})")


def row_findings(standardised: Array, outliers: list[dict[str, Any]]) -> Finding:
    """The farthest row against what chance gives among so many (Bonferroni)."""
    n, far = len(standardised), float(np.abs(standardised).max())
    bound = float(-special.ndtri(SUSPECT / (2.0 * n)))
    if far <= bound or not outliers:
        return Finding(
            "outlying rows", "rows", False, f"no row lies farther out than chance allows (farthest {far:.1f} SDs)"
        )
    worst = outliers[0]
    where = ", ".join(f"{k} {v}" for k, v in worst["units"].items())
    count = int(np.sum(np.abs(standardised) > bound))
    more = f"; {count} rows lie beyond {bound:.1f}" if count > 1 else ""
    words = f"row {worst['row']}{f' ({where})' if where else ''} lies {worst['standardised']:+.1f} residual SDs from its fitted value{more}"
    advice = f"see whether row {worst['row']} is a slip of the pen before you trust or drop it"
    return Finding("outlying rows", f"row {worst['row']}", True, words, advice)


def unit_findings(fit: Fit, effects: list[tuple[str, str, list[str], Array]]) -> Iterator[Finding]:
    """Grubbs' (1969) test of the farthest level of each term, all terms together at the level of one test."""
    for group, term, levels, values in effects:
        j, sd = len(values), float(values.std(ddof=1)) if len(values) > 1 else 0.0
        if j < 5 or sd == 0:
            continue
        z = (values - values.mean()) / sd
        far = int(np.argmax(np.abs(z)))
        t2 = float(special.stdtrit(j - 2, 1.0 - SUSPECT / (2.0 * j * len(effects)))) ** 2
        bound = (j - 1) / np.sqrt(j) * np.sqrt(t2 / (j - 2 + t2))
        if abs(z[far]) > bound:
            words = f"{group} {levels[far]} stands apart: its effect of {term} lies {z[far]:+.1f} SDs out"
            yield Finding("outlying units", f"{group}: {levels[far]}", True, words, _without(fit, group, levels[far]))
        else:
            yield Finding(
                "outlying units", f"{group}: {term}", False, f"no {group} stands apart by its effect of {term}"
            )


def influence_findings(fit: Fit, made: Influence) -> Finding:
    """Levels that disagree with the others beyond chance (Bonferroni), or move the estimates as a whole.

    The bounds on Cook's distance are such that few clean data sets pass them: 1 for many levels, more for a handful.
    """
    name, j = made.unit.name, made.unit.size
    if np.isnan(made.cook).all():
        return Finding("influence", name, False, f"the influence of levels of {name} cannot be told")
    p = np.where(np.isnan(made.p), 1.0, made.p)
    cook, parts = np.nan_to_num(made.cook, nan=0.0), np.nan_to_num(made.cook_components, nan=0.0)
    wild = (p < SUSPECT / j) | (cook > HIGH_COOK + 6.0 / j)
    bound = HIGH_COMPONENTS + (0.0 if fit.design.additive else FEW_UNITS / j)
    if not wild.any() and parts.max() > bound:
        worst = int(np.argmax(parts))
        level, k = made.unit.texts[worst], int(np.nanargmax(_relative(made, worst)))
        words = (
            f"{name} {level} pulls the components (Cook's distance {parts[worst]:.2g}): without it {made.parameters[k]} "
            f"would be {made.components[worst, k]:.3g} rather than {made.components_all[k]:.3g}"
        )
        return Finding("influence", f"{name}: {level}", True, words, _without(fit, name, level))
    worst = int(np.argmax(np.where(wild, cook, -1.0) if wild.any() else cook))
    moved = np.abs(made.fixed[worst] - made.fixed_all) / np.where(made.se > 0, made.se, np.inf)
    k = int(np.argmax(np.nan_to_num(moved, nan=-1.0))) if len(moved) else 0
    level = made.unit.texts[worst]
    change = f"without {name} {level} {made.terms[k]} would move by {moved[k]:.2g} of its SE" if len(moved) else ""
    if wild.any():
        words = f"{name} {level} pulls the estimates (Cook's distance {cook[worst]:.2g}): {change}"
        return Finding("influence", f"{name}: {level}", True, words, _without(fit, name, level))
    return Finding("influence", name, False, f"no single {name} carries the estimates (the most: {change})")


def _relative(made: Influence, level: int) -> Array:
    """How far each component would move, as a part of itself."""
    whole = np.abs(made.components_all)
    return np.abs(made.components[level] - made.components_all) / np.where(whole > 0, whole, np.inf)


def serial_findings(fit: Fit, made: dict[str, Any]) -> Finding:
    first = made["lags"][0] if made["lags"] else {"correlation": None, "gap": 0.0}
    r = first["correlation"]
    if made["p"] is None or r is None:
        return Finding("autocorrelation", made["unit"], False, f"autocorrelation along {made['time']} cannot be told")
    seen = f"correlation {r:+.2f} one step of {made['time']} apart, {made['expected']:+.2f} expected of independent rows, p {equals(made['p'])}"
    if made["p"] >= SUSPECT:
        return Finding("autocorrelation", made["unit"], False, f"residuals of one {made['unit']} do not depend on each other in time ({seen})")  # fmt: skip
    words = f"residuals of one {made['unit']} depend on each other in time ({seen})"
    if not fit.design.additive or made["averaged"]:
        return Finding("autocorrelation", made["unit"], True, words, f"a term for {made['time']}, or effects of {made['time']} in {made['unit']}")  # fmt: skip
    advice = "another structure after within"
    if fit.design.sentence.within is None:
        advice = with_within(fit.design.sentence, made["unit"], "ar1", made["time"]).source
    return Finding("autocorrelation", made["unit"], True, words, advice)


def equals(p: float) -> str:
    return "< 0.001" if p < 0.001 else f"= {p:.3f}"


def _without(fit: Fit, group: str, level: str) -> str:
    """How to fit without one level of a unit; a treatment of the fixed part is not dropped."""
    fixed = {c.name for c in columns_of(fit.design.sentence.terms)}
    if set(group.split(" in ")) <= fixed:
        return f"look at the rows of {group} {level}; it is a term of the fixed part, so do not drop it"
    parts = zip(group.split(" in "), level.split(" in "))
    inside = " and ".join(f"{column_text(c)} = {Text(v).written}" for c, v in parts)
    option = f"not ({inside})" if '"' not in inside else f"not ({inside})".replace('"', "'")
    return f'look at {group} {level}, then fit once more without it: --where "{option}"'


def _plain(fit: Fit) -> bool:
    """Whether another family can take the sentence: rows independent, of one spread."""
    return fit.design.sentence.within is None and not fit.design.sentence.spread


def _positive(fit: Fit) -> bool:
    value = fit.design.sentence.outcome.value
    y = fit.design.outcome_values
    return fit.design.additive and not hasattr(value, "function") and bool(y.min() > 0)


def _logarithm(fit: Fit) -> str:
    return f"the logarithm of the outcome: {with_outcome(fit.design.sentence, 'log').source}"


def _bent(fit: Fit, name: str) -> str:
    return with_curve(fit.design.sentence, name, 4 if fit.design.random_spread else None).source
