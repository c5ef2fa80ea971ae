"""The answers of all commands as typed, frozen data: the JSON contract, its frames, and its schema."""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from bold_orchard.results.base import Result

HOMES = {
    "scout": "ScoutResult", "fit": "FitResult", "compare": "CompareResult", "components": "ComponentsResult",
    "terms": "TermsResult", "means": "MeansResult", "intervals": "IntervalsResult", "groups": "GroupsResult",
    "predict": "PredictResult", "check": "CheckResult", "draw": "DrawResult", "table": "TableResult",
    "equations": "EquationsResult", "explain": "ExplainResult", "scan": "ScanResult", "report": "ReportResult",
    "plan": "PlanResult", "anova": "AnovaResult", "simulate": "SimulateResult", "power": "PowerResult", "carry": "CarryResult", "sample": "SampleResult", "certify": "CertifyResult", "run": "RunResult",
}  # fmt: skip


def result_of(command: str) -> type[Result]:
    """The type of a command's answer. Raises KeyError for a command without one."""
    made: Any = getattr(importlib.import_module(f"bold_orchard.results.{command}"), HOMES[command])
    return made


def read(document: dict[str, Any]) -> Result:
    """The typed answer of any document, by its ``schema``: bold-orchard/means/1."""
    return result_of(document["schema"].split("/")[1]).from_dict(document)
