"""The page of a certificate, from its document alone."""

from __future__ import annotations

from bold_orchard.reporting.numbers import figure
from bold_orchard.reporting.page import Left, Page
from bold_orchard.results.certify import CertifyResult


def certify_page(d: CertifyResult, digits: int = 4) -> Page:
    page = Page().title(f"Certificate of Bold Orchard {d['version']} on this machine")
    if not d["passed"]:
        page.warning("NOT PASSED: see the notes.")
    else:
        page.text(f"Passed: all {len(d['checks'])} figures have the digits they need, in {d['seconds']:g} seconds.")
    rows = [
        (
            c["problem"],
            c["quantity"],
            figure(c["computed"], max(digits, 6)),
            f"{c['digits']:.1f}",
            f"{c['needed']:g}",
            "yes" if c["passed"] else "NO",
        )
        for c in d["checks"]
    ]
    page.table("Figures", ("problem", Left("figure"), "computed", "digits\nthat agree", "needed", "passed"), rows)
    page.list("Where the exact answers come from", list(dict.fromkeys(c["source"] for c in d["checks"])))
    v = d["versions"]
    page.text(f"Python {v['python']}, NumPy {v['numpy']}, SciPy {v['scipy']}; {v['system']} on {v['machine']}.")
    return page.notes(d["notes"])
