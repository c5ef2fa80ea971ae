"""The page of a posterior, from its document alone."""

from __future__ import annotations

from bold_orchard.errors import counted as count
from bold_orchard.reporting.numbers import figure, fixed
from bold_orchard.reporting.page import Left, Page
from bold_orchard.results.sample import SampleResult


def sample_page(d: SampleResult, digits: int = 4) -> Page:
    page = Page().title(d["model"])
    if not d["converged"]:
        page.warning("These draws must NOT be used: see the notes.")
    if d.get("prior_only"):
        page.text(f"The prior of {d['fit']} alone: {d['chains'] * d['draws']:,} independent draws (seed {d['seed']}).")
    else:
        page.text(_how(d))
    of_prior = bool(d.get("prior_only"))
    head = ("parameter", "mean", "SD", f"{100 * d['confidence']:g}% from", "to")
    more = () if of_prior else ("likelihood\nestimate", "R-hat", "draws\nworth")
    rows = [
        (r["parameter"], figure(r["mean"], digits), figure(r["sd"], 3), figure(r["low"], digits), figure(r["high"], digits),
         figure(r["likelihood_estimate"], digits), fixed(r["r_hat"], 3), _worth(r["effective_bulk"], r["effective_tail"]))[: len(head) + len(more)]
        for r in d["parameters"]
    ]  # fmt: skip
    page.table("What the priors say of each parameter" if of_prior else "Posterior", (*head, *more), rows)
    worth = (
        " R-hat is 1 where the chains agree; draws hang together, and are worth as many independent ones as the last column says (the "
        "smaller of the middle's and the tails')."
    )
    page.text("Intervals hold their share of the draws, the same at both ends." + ("" if of_prior else worth))
    page.table(
        "Priors",
        ("parameter", Left("law"), Left("")),
        [(p["parameter"], p["law"], "default" if p["default"] else "yours") for p in d["priors"]],
    )
    if d.get("shares"):
        page.table(
            "How alike rows of one unit are, and what is explained", (Left(""), "mean", "SD", f"{100 * d['confidence']:g}% from", "to", "likelihood\nestimate"),
            [(_share(r["quantity"]), *(fixed(r[k], 3) for k in ("mean", "sd", "low", "high", "likelihood_estimate"))) for r in d["shares"]],
        )  # fmt: skip
    loo = d["leave_one_out"]
    if loo:
        page.text(
            f"Rows left out one at a time: expected log density {fixed(loo['expected_log_density'], 2)} (SE {fixed(loo['se'], 2)}), {fixed(loo['effective_parameters'], 1)} effective "
            "parameters. Compare it with that of another posterior of the same rows."
        )
    if d["replicates"]:
        page.table(
            "Outcomes drawn from the prior" if of_prior else "Outcomes drawn anew from the posterior", ("statistic", "observed", "drawn", "95% from", "to", "share\nlarger"),
            [(r["statistic"], figure(r["observed"], digits), figure(r["mean"], digits), figure(r["low"], digits), figure(r["high"], digits), fixed(r["p"], 2))
             for r in d["replicates"]],
        )  # fmt: skip
    if d.get("compared"):
        page.table(
            "Other posteriors of the same rows, left out one at a time", ("posterior", "expected log\ndensity, less", "SE", "doubtful\nrows"),
            [(c["posterior"], fixed(c["elpd_difference"], 2), fixed(c["se"], 2), f"{len(c['doubtful_rows']):,}") for c in d["compared"]],
        )  # fmt: skip
        page.text(
            "Above zero the other foretells rows better than this one; a difference of less than two or three SEs says little."
        )
    return page.notes(d["notes"])


def _share(quantity: str) -> str:
    """ICC of orchard; marginal R²."""
    kind, _, name = quantity.removesuffix(")").partition("(")
    return f"ICC of {name}" if kind == "icc" else f"{name} R²"


def _how(d: SampleResult) -> str:
    return (
        f"The posterior of {d['fit']}: {count(d['chains'], 'chain')} of {d['draws']:,} draws each, after {d['warmup']:,} of warm-up (seed {d['seed']}). "
        + believed(d)
    )


def believed(d: SampleResult) -> str:
    """One sentence on whether the chains can be believed."""
    worst = max((r["r_hat"] for r in d["parameters"] if r["r_hat"] is not None), default=None)
    least = min(
        (
            min(r["effective_bulk"], r["effective_tail"])
            for r in d["parameters"]
            if r["effective_bulk"] and r["effective_tail"]
        ),
        default=None,
    )
    figures = (
        f"largest R-hat {fixed(worst, 3)}, every parameter worth {least:,.0f} draws or more"
        if worst is not None and least
        else ""
    )
    none = "no draw diverged" if not d["divergent"] else f"{d['divergent']:,} draws diverged"
    return f"The chains can{'' if d['converged'] else 'not'} be believed: {figures}, {none}."


def _worth(bulk: float | None, tail: float | None) -> str:
    return "—" if bulk is None or tail is None else f"{min(bulk, tail):,.0f}"
