"""A fitted model as a notebook holds it, fits compared and drawn, and fits kept for later."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from bold_orchard import sampled
from bold_orchard.answers import Answer
from bold_orchard.choices import CheckKind, ComponentsMethod, Correction, Df, DrawKind, Influence, IntervalsMethod
from bold_orchard.errors import UsageError
from bold_orchard.fitted import Fitted, Origin
from bold_orchard.inference.fit import Fit
from bold_orchard.progress import Progress, silent
from bold_orchard.results.base import Absent, Result
from bold_orchard.results.means import of_all_outcomes, of_all_terms
from bold_orchard.sentence.tree import columns_of
from bold_orchard.tables import index_of, table
from bold_orchard.wording import ColumnWords, Wording, read_wording, wording_of

if TYPE_CHECKING:
    import pandas as pd

    from bold_orchard.validation.leave_out import Scores

SEED = 20260101  # that of the command line


@dataclasses.dataclass(frozen=True, repr=False, eq=False)
class Model(Fitted):
    """A fitted model: its tables as attributes, every further question a method."""

    @property
    def variation(self) -> pd.DataFrame:
        """One row per component: group, kind, term, term2, estimate, sd, correlation, se, ratio, low, high, share."""
        return self.components().to_frame()

    def _answer(self, result: Result, **shows: Any) -> Answer:
        return Answer(result, self.converged, shows, wording=self.core.settings.wording)

    def _level(self, confidence: float | None) -> float:
        return self.core.level(confidence)

    def compare(self, *others: Model | str, **options: Any) -> Answer:
        """This fit against others: likelihood-ratio tests and information criteria.

        Parameters
        ----------
        others : fits, or names of saved ones.
        options : as of ``bold_orchard.compare``.

        Returns
        -------
        Answer
            prints as the page; ``to_frame()`` is a row for each fit.

        Raises
        ------
        UsageError : the fits are of different rows, or not of one method.
        """
        return compare(self, *others, **options)

    def draw(self, **options: Any) -> Answer:
        """Lines of units over the data, observed against predicted, effects of predictors.

        Parameters
        ----------
        options : as of ``bold_orchard.draw``.

        Returns
        -------
        Answer
            prints as the page; ``to_frame()`` is what is drawn. ``figure()`` is the picture.
        """
        return draw(self, **options)

    def terms(
        self, type: Literal[1, 2, 3] = 3, *, df: Df | None = None, chisq: bool = False, likelihood: bool = False,
        contrast: Sequence[str] = (), force: bool = False, confidence: float | None = None, effect_sizes: bool = False,
        posterior: Answer | str | None = None, errors: str | None = None,
    ) -> Answer:  # fmt: skip
        """Tests of the fixed terms, and of contrasts in words.

        Parameters
        ----------
        type : of sums of squares: 1 in the order of the sentence, 2 beside all that does not contain the term, 3
            beside all.
        df : "satterthwaite", "kenward-roger", "residual" or "normal" (default: that of the fit).
        chisq : chi-squared tests in place of F.
        likelihood : each term against the model without it, by maximum likelihood.
        contrast : differences of levels in words, "hard - light", or combinations of coefficients.
        force : go on with a fit that did not converge.
        confidence : level of every interval, between 0 and 1 (default: that of the fit).
        effect_sizes : shares of variance and standardised coefficients too.
        posterior : an answer of ``sample``, or the file of draws that it kept: the answer then comes from the
            draws.
        errors : "robust" (over the topmost unit), "robust=UNIT" or "model" (default: those of the fit).

        Returns
        -------
        Answer
            prints as the page; ``to_frame()`` is a row for each term: statistic, value, num_df, den_df, p;
            ``to_frame("contrasts")`` the contrasts.

        Raises
        ------
        UsageError : options that do not go together.
        OrchardError : a contrast of what is not in the fit.

        References
        ----------
        Satterthwaite (1946); Fai & Cornelius (1996); Kenward & Roger (1997).

        Examples
        --------
        >>> import bold_orchard as bo
        >>> rows = {"tree": list("aabbccdd"), "rain": [1.0, 2, 1, 3, 2, 1, 3, 2], "soil": list("xyxyyxyx"),
        ...         "yield": [1.0, 1.6, 2.1, 2.9, 3.2, 2.4, 1.9, 1.2]}
        >>> made = bo.fit("yield = rain + soil; each tree: intercept", rows)
        >>> [t["term"] for t in made.terms()["tests"]]
        ['rain', 'soil']
        """
        from bold_orchard.classical.pooled import pooled_notes
        from bold_orchard.inference.coefficients.terms import terms

        if type not in (1, 2, 3):
            raise UsageError(f"the type is 1, 2 or 3, not {type!r}")
        texts = [contrast] if isinstance(contrast, str) else list(contrast)
        if posterior is not None:
            given = {
                "type": type != 3,
                "df": df,
                "chisq": chisq,
                "likelihood": likelihood,
                "effect-sizes": effect_sizes,
                "errors": errors,
            }
            return sampled.contrasts(self.core, posterior, given, texts, self._level(confidence))
        if likelihood or effect_sizes:
            self.core.needs_one_table("--likelihood" if likelihood else "--effect-sizes")
            self.core.needs_one_predictor("terms --likelihood" if likelihood else "terms --effect-sizes")
        core = (self.with_rows().core if effect_sizes else self.core).with_errors(errors)
        made = terms(core, type, df, chisq, force, likelihood, texts, self._level(confidence), effect_sizes)
        more = [] if core.imputations else pooled_notes(core, made)
        return self._answer(made.with_keys(notes=[*made.notes, *more]) if more else made)

    def means(
        self, term: str | None = None, *, hold: Mapping[str, Any] | None = None, differences: bool = False,
        correction: Correction = "tukey", df: Df | None = None, slope: str | None = None,
        within: str | None = None, ratios: bool = False,
        sed: bool = False, force: bool = False, confidence: float | None = None, posterior: Answer | str | None = None,
        against: str | None = None, letters: bool = False, effect_sizes: bool = False, trend: bool = False, errors: str | None = None,
        outcome: str | None = None, curve: str | None = None, part: str | None = None,
    ) -> Answer:  # fmt: skip
        """Adjusted means of a term's levels, and the differences between them.

        Parameters
        ----------
        term : a category or a product, "pruning*soil" (default: all of them).
        hold : columns held at values of their own, {"rain": [10, 20], "soil": "clay"}; others stand at their means,
            categories at equal weights.
        differences : print all pairwise differences; ``to_frame("pairs")`` has them anyway.
        correction : for the number of differences: "tukey", "sidak", "bonferroni", "holm" or "none".
        df : "satterthwaite", "kenward-roger", "residual" or "normal" (default: that of the fit).
        slope : slopes of this covariate in place of means.
        within : differences inside one level of this factor only.
        ratios : differences as odds, rate or hazard ratios too.
        sed : print all standard errors of differences.
        force : go on with a fit that did not converge.
        confidence : level of every interval, between 0 and 1 (default: that of the fit).
        posterior : an answer of ``sample``, or the file of draws that it kept: the answer then comes from the
            draws.
        against : differences of each level from this one, judged together.
        letters : levels that share a letter do not differ.
        effect_sizes : differences in SDs too.
        trend : linear, quadratic, ... contrasts along the levels.
        errors : "robust" (over the topmost unit), "robust=UNIT" or "model" (default: those of the fit).
        outcome : of several outcomes this one (default: all).
        curve : differences along this number, all of the line judged together.
        part : "zeros", "spread" or a level of an unordered outcome (default: the whole outcome).

        Returns
        -------
        Answer
            prints as the page; ``to_frame()`` is a row for each mean, in units of the outcome (of the link, with
            ``outcome`` beside it): mean, se, df, low, high; ``to_frame("pairs")`` the differences.

        Raises
        ------
        UsageError : options that do not go together.
        OrchardError : a term or column that is not in the fit.

        References
        ----------
        Searle, Speed & Milliken (1980); Tukey & Kramer (1956); Dunnett (1955) for ``against``.

        Examples
        --------
        >>> import bold_orchard as bo
        >>> rows = {"tree": list("aabbccdd"), "rain": [1.0, 2, 1, 3, 2, 1, 3, 2], "soil": list("xyxyyxyx"),
        ...         "yield": [1.0, 1.6, 2.1, 2.9, 3.2, 2.4, 1.9, 1.2]}
        >>> made = bo.fit("yield = rain + soil; each tree: intercept", rows)
        >>> list(made.means("soil").to_frame()["soil"])
        ['x', 'y']
        """
        from bold_orchard.inference.coefficients.comparisons import Comparisons
        from bold_orchard.inference.coefficients.means import means, terms_with_means
        from bold_orchard.inference.coefficients.multiplicity import METHODS

        if correction not in METHODS:
            raise UsageError(f"the correction is one of {', '.join(METHODS)}, not '{correction}'")
        held = {k: [v] if isinstance(v, (str, int, float)) else list(v) for k, v in (hold or {}).items()}
        level = self._level(confidence)
        view = {
            "differences": differences or ratios or within is not None or against is not None or effect_sizes,
            "sed": sed,
        }
        of_one = {"--against": against is not None, "--trend": trend, "--curve": curve is not None}
        if term is None and any(of_one.values()):
            raise UsageError(f"{next(k for k, v in of_one.items() if v)} is about the levels of one term; name it")
        if curve is not None and slope is not None:
            raise UsageError("--curve goes along a number where --slope asks of its slope; leave one of them out")
        if against is not None and within is not None:
            raise UsageError("--against judges all differences from one level together; leave --within out")
        if term is None and within is not None:
            raise UsageError("--within looks inside one factor of a term, so name the term")
        several = self.core.outcomes(outcome)
        if posterior is not None:
            given = {"df": df, "correction": correction not in ("tukey", "none"), "against": against, "letters": letters, "errors": errors,
                     "effect-sizes": effect_sizes, "trend": trend, "curve": curve}  # fmt: skip
            return sampled.means(self.core, posterior, given, view, term, held, level, slope, within, ratios, several)
        more = Comparisons(against, letters, effect_sizes, trend, curve)
        core = self.core.with_errors(errors)
        views = [core.of(name) for name in several] or [core.part(part)]
        each = [
            [
                means(v, one, held, correction, df, level, slope, force, within, ratios, more)
                for one in (terms_with_means(v) if term is None else [term])
            ]
            for v in views
        ]
        whole = [of_all_terms(made) for made in each]
        return self._answer(of_all_outcomes(whole, core.design.outcome) if several else whole[0], **view)

    def components(
        self, method: ComponentsMethod = "wald", *, against: Model | str | None = None, tests: bool = False,
        confidence: float | None = None, progress: Progress | None = None,
        posterior: Answer | str | None = None, seed: int = SEED,
    ) -> Answer:  # fmt: skip
        """Variance components with errors, shares, intraclass correlations and R squared.

        Parameters
        ----------
        method : of the intervals: "wald" or "profile".
        against : a smaller fit, whose components these are compared with.
        tests : each variance, with its covariances, against the model without it by likelihood ratio.
        confidence : level of every interval, between 0 and 1 (default: that of the fit).
        progress : called with the steps done and their number.
        posterior : an answer of ``sample``, or the file of draws that it kept: the answer then comes from the
            draws.
        seed : begins whatever is random; the same seed gives the same answer.

        Returns
        -------
        Answer
            prints as the page; ``to_frame()`` is a row for each component: group, kind, term, estimate (squared
            units of the outcome), sd, se, ratio, low, high, share.

        References
        ----------
        Nakagawa, Johnson & Schielzeth (2017); Self & Liang (1987) for tests at the boundary.
        """
        from bold_orchard.inference.variances.components import components

        if method not in ("wald", "profile"):
            raise UsageError(f"the method is wald or profile, not '{method}'")
        if method == "profile":
            self.core.needs_factor("a profile", "use --method wald")
        if posterior is not None:
            given = {"method": method == "profile", "against": against, "tests": tests}
            return sampled.components(self.core, posterior, given, self._level(confidence))
        other = None if against is None else _cores([against])[0]
        if method == "profile" or tests or against is not None:
            self.core.needs_one_table(
                "--tests" if tests else "--against" if against is not None else "--method profile"
            )
        made = components(self.core, self._level(confidence), method, other, progress)
        if not tests:
            return self._answer(made)
        from bold_orchard.inference.comparison.component_tests import component_tests

        found, notes = component_tests(self.core, seed, progress or silent)
        return self._answer(made.with_keys(tests=found, notes=[*made.notes, *notes]))

    def intervals(
        self, method: IntervalsMethod = "profile", *, samples: int = 1000, seed: int = SEED, force: bool = False,
        confidence: float | None = None, points: int = 12, progress: Progress | None = None, errors: str | None = None,
    ) -> Answer:  # fmt: skip
        """Intervals for every parameter.

        Parameters
        ----------
        method : "profile", "wald" or "bootstrap".
        samples : simulated outcomes of a bootstrap.
        seed : begins whatever is random; the same seed gives the same answer.
        force : go on with a fit that did not converge.
        confidence : level of every interval, between 0 and 1 (default: that of the fit).
        points : more points of each profile, for its picture.
        progress : called with the steps done and their number.
        errors : "robust" (over the topmost unit), "robust=UNIT" or "model" (default: those of the fit).

        Returns
        -------
        Answer
            prints as the page; ``to_frame()`` is a row for each parameter: parameter, estimate, low, high.

        Raises
        ------
        UsageError : a profile or bootstrap of a fit that did not converge, without ``force``.

        References
        ----------
        Venzon & Moolgavkar (1988).
        """
        from bold_orchard.inference.intervals.intervals import intervals

        level = self._level(confidence)
        if errors is not None and method != "wald":
            raise UsageError("--errors is about standard errors; ask for --method wald")
        if method != "wald":
            self.core.needs_one_table(f"--method {method}")
        core = (self.with_rows().core if method == "bootstrap" else self.core).with_errors(errors)
        return self._answer(intervals(core, method, level, points, samples, seed, force, progress))

    def anova(self, type: Literal[1, 2, 3] = 3, *, restricted: bool = False) -> Answer:
        """The classical analysis of variance of a sentence of categories.

        Parameters
        ----------
        type : of sums of squares: 1, 2 or 3.
        restricted : random effects of a crossed factor sum to zero over the fixed one.

        Returns
        -------
        Answer
            prints as the page; ``to_frame()`` is a row for each source.

        Raises
        ------
        UsageError : a fit with numbers, or of another family.

        References
        ----------
        Searle, Casella & McCulloch (1992).
        """
        self.core.needs_rows("anova")
        from bold_orchard.classical.anova import anova

        return self._answer(anova(self.core, type, restricted))

    def simulate(
        self, draws: int = 1, *, new: Any = None, missing: Sequence[str] = (), where: str | None = None, seed: int = SEED,
    ) -> Answer:  # fmt: skip
        """Outcomes drawn from the fit over its own rows or new ones.

        Parameters
        ----------
        draws : how many outcomes of each row.
        new : other rows, as of ``fit``; units that were not in the fit are drawn anew.
        missing : codes that mean missing, of all columns, or "COLUMN=CODE".
        where : only rows for which it holds: "season > 2".
        seed : begins whatever is random; the same seed gives the same answer.

        Returns
        -------
        Answer
            prints as the page; ``to_frame()`` is the rows with the outcomes drawn.

        Raises
        ------
        OrchardError : new rows without a column that the model needs.
        """
        from bold_orchard.planning.simulate import simulate

        self.core.needs_one_table("simulate")
        core = self.with_rows().core
        return self._answer(simulate(core, core.own_table if new is None else table(new, missing, where), draws, seed))

    def carry(
        self, data: Any, sentence: str, *, imputations: int = 100, progress: Progress | None = None, **options: Any
    ) -> Answer:
        """A second outcome explained by this fit's predicted effects, their uncertainty carried on.

        Parameters
        ----------
        data : the table of the second outcome, as of ``fit``.
        sentence : its model, with "effect(UNIT: TERM)" among its terms.
        imputations : draws of the effects, over which the fits are pooled.
        progress : called with the steps done and their number.
        options : as of ``carried.carry``: missing, where, seed, confidence, posterior.

        Returns
        -------
        Answer
            prints as the page; ``to_frame()`` is a row for each term.

        Raises
        ------
        OrchardError : an effect that is not in this fit.

        References
        ----------
        Rubin (1987); Barnard & Rubin (1999).
        """
        self.core.needs_rows("carry")
        from bold_orchard.carried import carry

        return carry(self.core, data, sentence, imputations=imputations, progress=progress, **options)

    def sample(self, **options: Any) -> Answer:
        """The posterior of this model under priors, by Hamiltonian Monte Carlo.

        Parameters
        ----------
        options : as of ``sampled.sample``: prior, chains, warmup, draws, keep, seed, kind, progress.

        Returns
        -------
        Answer
            prints as the page; ``to_frame()`` is a row for each parameter: mean, sd, low, high, effective_bulk,
            effective_tail, r_hat.

        Raises
        ------
        UsageError : a fit in pieces whose rows are not at hand.

        References
        ----------
        Hoffman & Gelman (2014); Vehtari et al. (2021) for R-hat.
        """
        self.core.needs_rows("sample")
        self.core.needs_factor("sample", "its estimates are of so many rows that a posterior would hardly differ")
        return sampled.sample(self.core, **options)

    def power(self, *effect: str, **options: Any) -> Answer:
        """How often studies like this one, of some sizes, would find its effects.

        Parameters
        ----------
        effect : "TERM = VALUE", a contrast with its value, "sd(unit: term) = VALUE", or a term alone (default: all
            terms).
        options : as of ``planned.power``: units, rows, alpha, df, runs, quick, want, uncertain, seed, progress.

        Returns
        -------
        Answer
            prints as the page; ``to_frame()`` is a row for each size and effect.

        Raises
        ------
        UsageError : a size that the design cannot have.
        """
        self.core.needs_rows("power")
        from bold_orchard.planned import power

        return power(self.core, *effect, **options)

    def equations(self, *, estimates: bool = False, digits: int = 4) -> Answer:
        """The model written out level by level and in one line.

        Parameters
        ----------
        estimates : numbers in place of coefficients and variances.
        digits : significant digits in texts.

        Returns
        -------
        Answer
            prints Unicode; saved as .html it has MathML, as .tex LaTeX, as .docx equation objects.
        """
        from bold_orchard.inference.notation.equations import equations

        return self._answer(equations(self.core, estimates, digits))

    def explain(self, *, label: Sequence[str] = (), digits: int = 4, confidence: float | None = None) -> Answer:
        """This fit in plain sentences, one for each coefficient and component.

        Parameters
        ----------
        label : texts "NAME=TEXT" for terms, columns and units.
        digits : significant digits in texts.
        confidence : level of every interval, between 0 and 1 (default: that of the fit).

        Returns
        -------
        Answer
            prints as the page; ``to_frame()`` is a row for each sentence.
        """
        return in_words(self.result, label, digits, confidence)

    def report(self, to: str | Path | None = None, *others: Model | str, **options: Any) -> Answer:
        """The study of this fit and others in one page.

        Parameters
        ----------
        to : the file that the page is written to, .html or .docx (default: none).
        others : more fits, or names of saved ones.
        options : as of ``bold_orchard.report``.

        Returns
        -------
        Answer
            the page.
        """
        made = report(self, *others, **options)
        if to is not None:
            made.save(to)
        return made

    def groups(self, *, confidence: float | None = None, posterior: Answer | str | None = None) -> Answer:
        """What was predicted for each unit, and how surely.

        Parameters
        ----------
        confidence : level of every interval, between 0 and 1 (default: that of the fit).
        posterior : an answer of ``sample``, or the file of draws that it kept: the answer then comes from the
            draws.

        Returns
        -------
        Answer
            prints as the page; ``to_frame()`` is a row for each level and term: effect, se, low, high, and
            the unit's own coefficient.

        Raises
        ------
        UsageError : a fit without units.

        References
        ----------
        Henderson (1975); Robinson (1991).
        """
        if posterior is not None:
            return sampled.groups(self.core, posterior, self._level(confidence))
        from bold_orchard.inference.prediction.groups import groups

        return self._answer(groups(self.core, self._level(confidence)))

    def check(
        self, *, unit: str | None = None, time: str | None = None, influence: Influence | None = None, seed: int = SEED,
        kind: CheckKind = "overview", progress: Progress | None = None,
    ) -> Answer:  # fmt: skip
        """Residuals at every level, patterns left over, and the influence of each unit.

        Parameters
        ----------
        unit : for within-group residuals, spread, time and influence (default: of each what fits).
        time : a column that orders a unit's rows, for their correlation over time.
        influence : of each unit: "one-step" (default where quick), "exact" or "none".
        seed : begins whatever is random; the same seed gives the same answer.
        kind : of picture: "overview", "rows", "predictors", "effects", "influence" or "time".
        progress : called with the steps done and their number.

        Returns
        -------
        Answer
            prints as the page; ``to_frame()`` is a row for the residuals of rows and of each unit: n, mean, sd,
            outliers; ``save("rows.csv")`` writes every row. ``figure()`` draws the ``kind`` of picture.

        Raises
        ------
        OrchardError : a unit or column that is not in the fit.

        References
        ----------
        Hilden-Minton (1995); Cook (1977).
        """
        from bold_orchard.diagnostics.checks import CheckOptions, check

        self.core.needs_one_table("check")
        result = check(self.with_rows().core, CheckOptions(unit, time, influence, seed), progress or silent)
        return Answer(result, self.converged, draws={"kind": kind}, wording=self.core.settings.wording)

    def predict(
        self, new: Any = None, *, new_observation: bool = False, missing: Sequence[str] = (), where: str | None = None,
        seed: int = SEED, confidence: float | None = None, posterior: Answer | str | None = None,
        progress: Progress | None = None, outcome: str | None = None,
    ) -> Answer:  # fmt: skip
        """Predicted values of the fit's own rows or of new ones.

        Parameters
        ----------
        new : other rows, as of ``fit`` (default: all rows of the data).
        new_observation : intervals of one more observation of each row, not of its mean.
        missing : codes that mean missing, of all columns, or "COLUMN=CODE".
        where : only rows for which it holds: "season > 2".
        seed : begins whatever is random; the same seed gives the same answer.
        confidence : level of every interval, between 0 and 1 (default: that of the fit).
        posterior : an answer of ``sample``, or the file of draws that it kept: the answer then comes from the
            draws.
        progress : called with the steps done and their number.
        outcome : of several outcomes this one (default: all).

        Returns
        -------
        Answer
            prints as the page; ``to_frame()`` is a row for each row: predicted, se, low, high, predicted_average,
            residual, in units of the outcome; a frame's own index is kept.

        Raises
        ------
        OrchardError : rows without a column that the model needs.

        References
        ----------
        Harville (1976).
        """
        from bold_orchard.inference.prediction.predict import predict_document

        rows = self.rows if new is None else table(new, missing, where)
        if self.core.imputations:
            if posterior is not None:
                self.core.needs_one_table("--posterior")
            from bold_orchard.imputing.predict import predict_pooled

            return self._answer(
                predict_pooled(
                    self.core, rows, new is None, self._level(confidence), new_observation, seed, progress or silent
                )
            )
        several = self.core.outcomes(outcome)
        if several:
            from bold_orchard.design.outcomes import every

            rows = every(rows, self.core.design.sentence, several, own=new is None)
        index = None if several else self.origin.index if new is None else index_of(new)
        if posterior is not None:
            made = sampled.predict(self.core, posterior, rows, self._level(confidence), new_observation, seed)
        else:
            made = self._answer(
                predict_document(self.core, rows, self._level(confidence), new_observation, seed, progress or silent)
            )
        return made if index is None else dataclasses.replace(made, index=index[rows.row_numbers - 1])


def open_fit(name: str) -> Model:
    """A fit kept by ``save`` or ``orchard fit --save``, ready to go on with.

    Parameters
    ----------
    name : its name, or the path of its file.

    Returns
    -------
    Model

    Raises
    ------
    OrchardError : there is no such fit, or its data have changed.
    """
    from bold_orchard.storage.saved_fits import open_fit as taken_up

    core, read = taken_up(name)
    return Model(core, read, Origin(saved_as=name))


def compare(
    *fits: Model | str | Sequence[Model | str], force: bool = False, common_rows: bool = False,
    against: Model | str | None = None, bootstrap: int = 0, leave_out: str | None = None, folds: int | None = None, repeats: int | None = None,
    seed: int = SEED, progress: Progress | None = None,
) -> Answer:  # fmt: skip
    """Likelihood-ratio tests and information criteria of fits of the same rows.

    Parameters
    ----------
    fits : fits, or names of saved ones.
    force : compare what should not be compared, with a note.
    common_rows : fit all anew to the rows that all can use.
    against : every fit against this one, in place of neighbours by size.
    bootstrap : simulated outcomes for the distribution of the test (20 or more; default: none).
    leave_out : a unit, or "rows": how well each fit foretells what it has not seen.
    folds : how many parts are left out in turn (default: each unit by itself; of rows ten).
    repeats : of rows: how often they are shared out.
    seed : begins whatever is random; the same seed gives the same answer.
    progress : called with the steps done and their number.

    Returns
    -------
    Answer
        prints as the page; ``to_frame()`` is a row for each fit; ``to_frame("tests")`` the tests.

    Raises
    ------
    UsageError : REML fits with different fixed parts, fits of different rows, options that do not go together.

    References
    ----------
    Self & Liang (1987); Stram & Lee (1994) at the boundary.
    """
    from bold_orchard.inference.comparison.compare import compare as compared

    if bootstrap and bootstrap < 20:
        raise UsageError("--bootstrap needs 20 simulated outcomes or more")
    given = [f for each in fits for f in (each if isinstance(each, (list, tuple)) else (each,))]
    models = [open_fit(f) if isinstance(f, str) else f for f in [*given, *([] if against is None else [against])]]
    if any(m.core.imputations for m in models):
        from bold_orchard.imputing.compare import compare_pooled

        given_up = {
            "--bootstrap": bool(bootstrap),
            "--common-rows": common_rows,
            "--leave-out": leave_out is not None,
            "--against": against is not None,
        }
        for option in (o for o, asked in given_up.items() if asked):
            next(m.core for m in models if m.core.imputations).needs_one_table(f"compare {option}")
        pooled = compare_pooled([m.core for m in models], force)
        return Answer(pooled, all(m.converged for m in pooled.models), wording=models[0].core.settings.wording)
    if bootstrap or common_rows or not _of_one_kind(models):
        models = [m.with_rows() for m in models]
    every = [m.core for m in models]
    cores, beside = every[: len(given)], every[len(given) :]
    cores += [f for f in beside if f.name not in [c.name for c in cores]]
    if not any(isinstance(f, str) for f in given):
        cores = _told_apart(cores)
    result = compared(cores, force, common_rows, bootstrap, seed, progress, beside[0].name if beside else None)
    if leave_out is not None:
        from bold_orchard.results.compare import LeftOut

        scores = _left_out(cores, leave_out, folds, repeats, seed, progress or silent)
        result = result.with_keys(leave_out=[LeftOut.from_dict(s.document(leave_out)) for s in scores])
    elif folds is not None or repeats is not None:
        raise UsageError("--folds and --repeats share out what --leave-out leaves out; name the unit, or rows")
    return Answer(result, all(m.converged for m in result.models), wording=cores[0].settings.wording)


def _left_out(
    cores: Sequence[Fit], what: str, folds: int | None, repeats: int | None, seed: int, report: Progress
) -> list[Scores]:  # fmt: skip
    """Scores of units, or of rows, that the fits have not seen."""
    from bold_orchard.validation.leave_out import leave_out
    from bold_orchard.validation.leave_out_rows import ROWS, leave_out_rows

    if what == ROWS and ROWS not in [u.name for u in cores[0].design.groups]:
        return leave_out_rows(cores, folds, 1 if repeats is None else repeats, seed, report)
    if repeats is not None:
        raise UsageError("--repeats is for --leave-out rows; units are left out once each")
    return leave_out(cores, what, folds, seed, report)


def draw(
    *fits: Model | str, kind: DrawKind = "lines", along: str | None = None, unit: str | None = None,
    units: Sequence[str] = (), by: str | None = None, confidence: float | None = None, seed: int = SEED,
    figure: str | None = None, slope: bool = False, outcome: str | None = None, part: str | None = None,
) -> Answer:  # fmt: skip
    """Lines of units over the data, observed against predicted, effects, or coefficients of several fits.

    Parameters
    ----------
    fits : a fit, or several for "coefficients".
    kind : "lines", "panels", "against", "effects", "coefficients" or "imputed".
    along : the predictor along the axis (default: the first number; of effects all).
    unit : whose lines (default: the unit whose effects vary along the predictor).
    units : only these levels of it.
    by : one line, or colour, for each level of this category.
    confidence : level of every interval, between 0 and 1 (default: that of the fit).
    seed : begins whatever is random; the same seed gives the same answer.
    figure : the name of the picture's file that the page tells.
    slope : of effects: how steep the line is along the predictor.
    outcome : of several outcomes this one (default: all).
    part : "zeros", "spread" or a level of an unordered outcome (default: the whole outcome).

    Returns
    -------
    Answer
        prints as the page; ``to_frame()`` is what is drawn. ``figure()`` is the picture.

    Raises
    ------
    UsageError : an option that the kind does not have.
    OrchardError : a column or level that is not there.
    """
    from bold_orchard.inference.prediction.draw import check_options
    from bold_orchard.inference.prediction.draw import draw as drawn

    named = [units] if isinstance(units, str) else list(units)
    check_options(
        len(fits), kind, {"along": along, "unit": unit, "units": named or None, "by": by, "slope": slope or None}
    )
    cores = [(open_fit(f) if isinstance(f, str) else f).with_rows().core for f in fits]
    level = cores[0].level(confidence)
    if kind == "imputed":
        from bold_orchard.imputing.picture import imputed_values

        return Answer(imputed_values(cores[0], level, figure), cores[0].converged, wording=cores[0].settings.wording)
    for core in cores if kind != "coefficients" else []:
        core.needs_one_table(f"draw --kind {kind}")
    chosen = [c.outcomes(outcome) for c in cores]
    cores = [c.of(names[0]) if names and kind != "coefficients" else c.part(part) for c, names in zip(cores, chosen)]
    result = drawn(cores, kind, along, unit, named, by, level, seed, figure, slope)
    return Answer(result, all(f.converged for f in cores), wording=cores[0].settings.wording)


def side_by_side(
    *fits: Model | str, headings: Sequence[str] = (), cells: str = "estimate (se)", labels: str | Mapping[str, str] | None = None,
    label: Sequence[str] = (), caption: str = "", drop: Sequence[str] = (), order: Sequence[str] = (), digits: int = 4,
    confidence: float | None = None, errors: str | None = None,
) -> Answer:  # fmt: skip
    """The publication table of one to ten fits, a column each.

    Parameters
    ----------
    fits : fits, or names of saved ones.
    headings : of the columns (default: the names of the fits).
    cells : a pattern of estimate, se, interval, p, df, ratio: "estimate (se)".
    labels : texts of terms, columns and units, or a TOML file of them.
    label : texts "NAME=TEXT" for terms, columns and units.
    caption : what stands above the table.
    drop : terms left out.
    order : terms that stand first.
    digits : significant digits in texts.
    confidence : level of every interval, between 0 and 1 (default: that of the fit).
    errors : "robust" (over the topmost unit), "robust=UNIT" or "model" (default: those of the fit).

    Returns
    -------
    Answer
        prints as the page; ``to_frame()`` is the table.

    Raises
    ------
    UsageError : a pattern without a part, headings that are not one a fit.
    """
    from bold_orchard.inference.summary import with_confidence
    from bold_orchard.inference.variances.components import components
    from bold_orchard.reporting.publication.labels import parse_labels
    from bold_orchard.reporting.publication.table import TableOptions, publication_table
    from bold_orchard.results.worded import worded

    cores = [f.with_errors(errors) for f in _cores(fits)]
    named = parse_labels([label] if isinstance(label, str) else list(label))
    given, wording = _labels_of(cores, labels, named)
    options = TableOptions(cells, tuple(headings), given, caption, tuple(drop), tuple(order), digits)
    level = cores[0].level(confidence)
    entries = [
        (worded(with_confidence(f.result, level), wording, ("term",)), worded(components(f, level), wording))
        for f in cores
    ]
    return Answer(publication_table(entries, options), all(f.converged for f in cores))


def _labels_of(
    fits: Sequence[Fit], labels: str | Mapping[str, str] | None, named: Mapping[str, str]
) -> tuple[dict[str, str], Wording]:
    """Labels of terms, printed names and columns, and the texts of columns and levels: those kept with fits, of a file,
    and of options.

    COLUMN:LEVEL names a level where it is no term of the fits. Raises OrchardError for a file that cannot be read.
    """
    wording = Wording()
    for fit in fits:
        wording = wording if fit.settings.wording is None else wording.beside(fit.settings.wording)
    given: dict[str, str] = {}
    if isinstance(labels, str):
        found = read_wording(labels)
        given, wording = found.texts, wording.beside(found)
    else:
        given = dict(labels or {})
    terms = {t for f in fits for r in f.result.coefficients for t in (r.term, r.label)}
    columns = {c.name for f in fits for c in columns_of(f.design.sentence)}
    own: dict[str, str] = {}
    for name, text in named.items():
        column, colon, level = name.rpartition(":")
        if colon and name not in terms and column.strip() in columns and " vs " not in level:
            wording = wording.beside(Wording({column.strip(): ColumnWords(None, {level.strip(): text})}))
        else:
            own[name] = text
    plain = {k: v for k, v in given.items() if not isinstance(labels, str) or k in columns | terms} | own
    kept = {c: dataclasses.replace(w, label=None) if c in plain else w for c, w in wording.columns.items()}
    return plain, Wording(kept)


def report(
    *fits: Model | str, title: str | None = None, digits: int = 4, labels: Mapping[str, str] | str | None = None,
    progress: Progress | None = None,
) -> Answer:  # fmt: skip
    """A study in one page: data, models, tables, comparison, checks, variation, methods and plan.

    Parameters
    ----------
    fits : fits, or names of saved ones.
    title : what stands at the head of the page.
    digits : significant digits in texts.
    labels : texts of terms and columns, or a TOML file of them.
    progress : called with the steps done and their number.

    Returns
    -------
    Answer
        the page; ``save("study.html")`` writes it.
    """
    from bold_orchard.scouting import scout
    from bold_orchard.studies.report import Questions, made_report

    models = [open_fit(f) if isinstance(f, str) else f for f in fits]
    if isinstance(labels, str):  # texts and levels of a file are those of every page
        wording = read_wording(labels)
        models = [m.with_wording(wording) for m in models]
    given = {} if isinstance(labels, str) else dict(labels or {})
    made = made_report(models, Questions(scout, compare, side_by_side), title, digits, given, progress)
    return Answer(made, all(m.converged for m in models))


def plan(*fits: Model | str, title: str | None = None, folder: Path | None = None) -> Answer:
    """The plan that makes a study of saved fits again.

    Parameters
    ----------
    fits : names of saved fits.
    title : of the study.
    folder : where the plan's file will lie.

    Returns
    -------
    Answer
        prints as TOML; ``save("plan.toml")`` writes it.

    Raises
    ------
    OrchardError : a fit that was not read from a file.
    """
    from bold_orchard.results.plan import PlanResult
    from bold_orchard.studies.write import plan_text, title_of

    models = [open_fit(f) if isinstance(f, str) else f for f in fits]
    text = plan_text(models, title, folder)
    names = [m.core.name for m in models]
    return Answer(PlanResult("bold-orchard/plan/1", title or title_of(models), names, text, []))


def in_words(result: Any, label: Sequence[str], digits: int, confidence: float | None) -> Answer:
    """The document of a fit in plain sentences."""
    from bold_orchard.inference.explain import explain
    from bold_orchard.inference.summary import with_confidence
    from bold_orchard.reporting.publication.labels import parse_labels

    result = result if confidence is None else with_confidence(result, confidence)
    named = parse_labels([label] if isinstance(label, str) else list(label))
    wording = None if isinstance(result.labels, Absent) else wording_of(result.labels)
    return Answer(
        explain(result, ({} if wording is None else wording.texts) | named, digits, wording), result.converged
    )


def _cores(fits: Sequence[Model | str]) -> list[Fit]:
    return [open_fit(f).core if isinstance(f, str) else f.core for f in fits]


def _of_one_kind(models: Sequence[Model]) -> bool:
    """Whether sums of rows answer for all fits: none was made of them, or all were, of one plain outcome."""
    designs = [m.core.design for m in models]
    summed = [d.counts is not None for d in designs]
    plain = len({d.outcome for d in designs}) == 1
    return not any(summed) or (all(summed) and plain)


def _told_apart(fits: Sequence[Fit]) -> list[Fit]:
    """Fits that bear one name get numbers after it."""
    names = [f.name for f in fits]
    out = []
    for place, f in enumerate(fits):
        if names.count(f.name) > 1:
            name = f"{f.name} {names[: place + 1].count(f.name)}"
            f = f.called(name)
        out.append(f)
    return out
