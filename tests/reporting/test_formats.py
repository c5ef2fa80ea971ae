"""A page as a file: the same words and cells in every format, signs of each format taken as they are."""

from __future__ import annotations

import io
import re
import shutil
import subprocess
from html.parser import HTMLParser
from xml.etree import ElementTree

import pytest

from bold_orchard.reporting.formats import rendered
from bold_orchard.reporting.formats.mathml import mathml
from bold_orchard.reporting.formats.omml import omml
from bold_orchard.reporting.page import Left, Page
from bold_orchard.results.formula import parse

ODD = r"rain [mm] & <50%_x $1 #2 {a} ~ ^ \n 'q' \"p\" *b* |c|"
PNG = bytes.fromhex(
    "89504e470d0a1a0a0000000d4948445200000001000000010806000000"
    "1f15c4890000000d49444154789c6360606060000000050001a5f645400000000049454e44ae426082"
)
LATEX = r"y_{ij} = \beta_{0j} + \frac{1}{2}\,\beta_1 \mathrm{rain\_mm}_{ij}^{2}, \quad \begin{pmatrix} u_{0j} \\ u_{1j} \end{pmatrix} \sim \mathcal{N}(0, \Sigma)"


def page():
    made = Page().title(ODD).warning("NOT CONVERGED").text("one\ntwo").title("Part", 2).formula("y = β", LATEX)
    made.table("Cells of " + ODD, ("term", Left("kind"), "figure\nbelow"), [(ODD, "k", "1.5"), ("[b]", "*", "−2 ± 3²")])
    return made.code("orchard fit a.csv 'y = x'").picture(PNG, ODD).notes([ODD])


class Reader(HTMLParser):
    def __init__(self):
        super().__init__()
        self.open, self.cells, self.alts, self.links, self.text = [], [], [], [], []

    def handle_starttag(self, tag, attrs):
        d = dict(attrs)
        self.links += [v for k, v in d.items() if k in ("src", "href")]
        if tag == "img":
            self.alts.append(d["alt"])
        if tag not in ("meta", "img", "br"):
            self.open.append(tag)
        if tag in ("td", "th"):
            self.cells.append("")

    def handle_endtag(self, tag):
        assert self.open.pop() == tag

    def handle_data(self, data):
        if self.open and self.open[-1] in ("td", "th"):
            self.cells[-1] += data
        self.text.append(data)


def test_html_is_whole_accessible_and_asks_for_nothing_outside():
    text = rendered(page(), ".html", ODD)
    reader = Reader()
    reader.feed(text)
    assert reader.open == [] and reader.alts == [ODD]
    assert all(link.startswith(("data:image/png;base64,", "#")) for link in reader.links) and "<script" not in text
    assert reader.cells == ["term", "kind", "figurebelow", ODD, "k", "1.5", "[b]", "*", "−2 ± 3²"]
    assert (
        '<th scope="row">' in text
        and '<th scope="col"' in text
        and "prefers-color-scheme" in text
        and "@media print" in text
    )
    assert "http" not in text.replace("http://www.w3.org/1998/Math/MathML", "")


def test_a_word_processor_opens_the_same_cells():
    docx = pytest.importorskip("docx")
    made = rendered(page(), ".docx", "t")
    assert made == rendered(page(), ".docx", "t")
    document = docx.Document(io.BytesIO(made))
    cells = [[c.text for c in row.cells] for row in document.tables[0].rows]
    assert cells == [["term", "kind", "figure\nbelow"], [ODD, "k", "1.5"], ["[b]", "*", "−2 ± 3²"]]
    words = [p.text for p in document.paragraphs]
    assert ODD in words and "Cells of " + ODD in words and document.inline_shapes[0]._inline.docPr.get("descr") == ODD
    assert [p.style.name for p in document.paragraphs if p.text == "Part"] == ["Heading 2"]
    assert "oMath" in document.element.xml and "Σ" in document.element.xml


def test_latex_escapes_every_sign_and_compiles(tmp_path):
    text = rendered(page(), ".tex", "t")
    body = text[text.index(r"\begin{document}") :]
    table = body[body.index(r"\midrule") : body.index(r"\bottomrule")]
    assert r"rain [mm] \& \textless{}50\%\_x \$1 \#2 \{a\}" in table and "{}[b] & {}*" in table
    if shutil.which("pdflatex") is None:
        return
    (tmp_path / "t.tex").write_text(text, encoding="utf-8")
    done = subprocess.run(
        ["pdflatex", "-interaction=nonstopmode", "-halt-on-error", "t.tex"],
        cwd=tmp_path,
        capture_output=True,
        check=False,
    )
    assert done.returncode == 0, done.stdout[-1500:].decode(errors="replace")


def test_markdown_and_text_hold_the_same_words():
    text = rendered(page(), ".md", "t")
    unescaped = re.sub(r"\\(.)", r"\1", text)
    assert "| " + ODD + " | k | 1.5 |" in unescaped
    assert "# " in text and "```\norchard fit" in text and LATEX in text
    assert "NOT CONVERGED" in rendered(page(), ".txt", "t")


def test_equations_become_trees_of_both_kinds():
    for made in (mathml(LATEX), omml(LATEX)):
        ElementTree.fromstring(made)
        for sign in ("β", "Σ", "rain_mm", "∼"):
            assert sign in made
    assert mathml(LATEX).count("<msub>") == 5 and "<msubsup>" in mathml(LATEX) and "<mfrac>" in mathml(LATEX)
    with pytest.raises(ValueError, match="no such command"):
        parse(r"\unheard{x}")
