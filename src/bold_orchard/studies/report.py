"""One page that holds a study."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from bold_orchard.answers import Answer
from bold_orchard.errors import OrchardError
from bold_orchard.progress import silent
from bold_orchard.reporting.page import Formula, Page, Title
from bold_orchard.results.report import ReportResult
from bold_orchard.studies.methods import methods_paragraph
from bold_orchard.studies.write import plan_text

SCHEMA = "bold-orchard/report/1"


@dataclass(frozen=True)
class Questions:
    """What a report asks of several fits or of the data: ``scout``, ``compare`` and ``side_by_side``, giving answers."""

    scout: Callable[..., Answer]
    compare: Callable[..., Answer]
    side_by_side: Callable[..., Answer]


def made_report(
    models: Sequence[Any], ask: Questions, title: str | None, digits: int, labels: dict[str, str], progress: Any
) -> ReportResult:  # fmt: skip
    """A study in one page: data, models in words and equations, tables, comparison, checks, components, groups, methods, plan.

    What cannot be asked of a fit is left out and said.
    """
    return _Report(models, ask, digits, progress or silent).made(title, labels)


class _Report:
    def __init__(self, models: Sequence[Any], ask: Questions, digits: int, progress: Any) -> None:
        self.ask, self.models, self.digits, self.progress = ask, models, digits, progress
        self.page, self.parts, self.notes = Page(), [], []  # type: Page, list[dict[str, Any]], list[str]

    def made(self, title: str | None, labels: dict[str, str]) -> ReportResult:
        names = [m.core.name for m in self.models]
        outcomes = " and ".join(dict.fromkeys(str(m.result["outcome"]) for m in self.models))
        title = title or f"A study of {outcomes}"
        self.page.title(title)
        self.first()
        total = 3 + 4 * len(self.models)
        steps = iter(range(1, total + 1))
        self.section(
            "The data",
            "scout",
            None,
            lambda: self.ask.scout(self.models[0].rows, outcome=_column(self.models[0])),
            picture=False,
        )
        self.progress(next(steps), total)
        for m in self.models:
            self.model(m)
            self.progress(next(steps), total)
        self.section(
            "Side by side",
            "table",
            None,
            lambda: self.ask.side_by_side(*self.models, labels=labels, digits=self.digits),
            picture=False,
        )
        if len(self.models) > 1:
            self.section("Which model?", "compare", None, lambda: self.ask.compare(list(self.models)))
        self.progress(next(steps), total)
        for m in self.models:
            name = m.core.name
            self.section(f"Checks of {name}", "check", name, m.check)
            self.progress(next(steps), total)
            self.section(f"Variance components of {name}", "components", name, m.components)
            self.progress(next(steps), total)
            if m.core.design.clauses:
                self.section(f"Predicted effects of {name}", "groups", name, m.groups)
            self.progress(next(steps), total)
        methods, plan = methods_paragraph(self.models), self.plan()
        self.heading("Methods", "", None)
        self.page.text(methods)
        self.heading("The same again", "plan", None)
        self.page.text("Saved as study.toml, this makes the study anew:  orchard run study.toml") if plan else None
        self.page.code(plan) if plan else self.page.text(
            "The data came from memory, not from a file, so no plan can name them."
        )
        document = {
            "schema": SCHEMA,
            "title": title,
            "fits": names,
            "parts": self.parts,
            "methods": methods,
            "plan": plan,
            "notes": self.notes,
        }
        return ReportResult.from_dict(document).with_keys(page=self.page)

    def first(self) -> None:
        """What is wrong stands before everything else."""
        for m in self.models:
            if not m.converged:
                self.page.warning(
                    f"{m.core.name} did NOT converge: its figures are where the search stopped, not estimates."
                )
        said = [f"{m.core.name}: {n}" for m in self.models for n in m.result["warnings"]]
        if said:
            self.page.list("Read first", said)

    def heading(self, text: str, command: str, fit: str | None) -> None:
        self.page.title(text, 2)
        self.parts.append({"heading": text, "command": command, "fit": fit})

    def section(self, heading: str, command: str, fit: str | None, ask: Any, picture: bool = True) -> None:
        """The answer's page under a heading, its picture after it; of a question that cannot be asked the reason."""
        self.heading(heading, command, fit)
        try:
            answer = ask()
        except OrchardError as e:
            self.page.text(f"Left out: {e}")
            self.notes.append(f"{heading}: left out: {e}")
            return
        self.join(answer.page(self.digits))
        if picture:
            self.picture(answer)

    def join(self, page: Page) -> None:
        """Its pieces without the title, which the heading says already."""
        self.page.pieces += [p for p in page.pieces if not isinstance(p, Title)]

    def picture(self, answer: Answer) -> None:
        illustrated = answer.illustrated(self.digits)
        self.page.pieces += illustrated.pieces[len(answer.page(self.digits).pieces) :]

    def model(self, m: Any) -> None:
        self.heading(f"Model {m.core.name}", "fit", m.core.name)
        self.page.code(m.result["model"])
        equations = m.equations(digits=self.digits)
        self.page.pieces += [p for p in equations.page(self.digits).pieces if isinstance(p, Formula)]
        self.join(m.answer.page(self.digits))

    def plan(self) -> str:
        try:
            return plan_text(self.models)
        except OrchardError:
            return ""


def _column(m: Any) -> str | None:
    """The outcome where it is a column as it stands."""
    name = str(m.result["outcome"])
    return name if m.rows.has(name) else None
