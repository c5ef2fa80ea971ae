"""Pages as LaTeX: tables by booktabs, compiled by any engine."""

from __future__ import annotations

from bold_orchard.reporting.page import Code, Formula, Grid, Left, Notes, Page, Paragraph, Picture, Title, Warning_

HEAD = r"""\documentclass[11pt]{article}
\usepackage[T1]{fontenc}
\usepackage[utf8]{inputenc}
\usepackage[a4paper,margin=2.2cm]{geometry}
\usepackage{booktabs}
\usepackage{amsmath}
\usepackage{longtable}
\setlength{\parindent}{0pt}
\setlength{\parskip}{0.6em}
\begin{document}
"""
SECTIONS = {1: "section*", 2: "section*", 3: "subsection*", 4: "subsubsection*"}
PLAIN = {
    "\\": r"\textbackslash{}", "&": r"\&", "%": r"\%", "$": r"\$", "#": r"\#", "_": r"\_", "{": r"\{", "}": r"\}",
    "~": r"\textasciitilde{}", "^": r"\textasciicircum{}", "<": r"\textless{}", ">": r"\textgreater{}", "|": r"\textbar{}",
    '"': r"\textquotedbl{}", "²": r"\textsuperscript{2}", "³": r"\textsuperscript{3}", "—": "---", "–": "--", "…": r"\dots{}",
    "±": r"$\pm$", "×": r"$\times$", "·": r"$\cdot$", "≤": r"$\le$", "≥": r"$\ge$", "≈": r"$\approx$", "−": "$-$", "∞": r"$\infty$",
    "°": r"$^{\circ}$", "µ": r"$\mu$", "√": r"$\surd$", "→": r"$\rightarrow$", "\u00a0": "~",
    **{g: rf"\textsubscript{{{n}}}" for g, n in zip("₀₁₂₃₄₅₆₇₈₉₊₋₌₍₎ₐₑₕᵢⱼₖₗₘₙₒₚᵣₛₜᵤᵥₓ", "0123456789+-=()aehijklmnoprstuvx")},
    **{g: rf"\textsuperscript{{{n}}}" for g, n in zip("⁰¹⁴⁵⁶⁷⁸⁹⁺⁻⁼⁽⁾ⁱⁿ", "0145678" "9+-=()in")},
    "𝒩": r"$\mathcal{N}$", "∼": r"$\sim$", "∣": r"$\mid$", "⊗": r"$\otimes$", "′": "'", "\u2009": " ", "\u0302": "",
    **{g: f"$\\{n}$" for g, n in zip("αβγδεζηθκλμνξπρστφχψωΓΔΘΛΣΦΨΩ", ["alpha", "beta", "gamma", "delta", "varepsilon", "zeta", "eta", "theta", "kappa", "lambda", "mu", "nu", "xi", "pi", "rho", "sigma", "tau", "varphi", "chi", "psi", "omega", "Gamma", "Delta", "Theta", "Lambda", "Sigma", "Phi", "Psi", "Omega"])},
}  # fmt: skip
SMALL, SMALLEST = 7, 10  # columns from which a table is set smaller, and smaller still


def escaped(text: str) -> str:
    """Text in which nothing is a command."""
    return "".join(PLAIN.get(sign, sign) for sign in text)


def document(page: Page, title: str = "") -> str:
    """A whole file that compiles; tables can be taken out of it as they are."""
    return HEAD + "\n\n".join(filter(None, map(_piece, page.pieces))) + "\n\\end{document}\n"


def _piece(piece: object) -> str:
    if isinstance(piece, Title):
        return f"\\{SECTIONS[piece.level]}{{{escaped(piece.text)}}}"
    if isinstance(piece, Warning_):
        return f"\\textbf{{{_lines(piece.text)}}}"
    if isinstance(piece, Paragraph):
        return _lines(piece.text)
    if isinstance(piece, Grid):
        return _table(piece)
    if isinstance(piece, Formula):
        return f"\\[\n{piece.latex}\n\\]"
    if isinstance(piece, Code):
        lines = "\\\\\n".join("\\mbox{}" + escaped(line.replace(" ", "\u00a0")) for line in piece.text.split("\n"))
        return f"\\begin{{quote}}\\small\\ttfamily\\raggedright\n{lines}\n\\end{{quote}}"
    if isinstance(piece, Picture):
        return f"\\emph{{{escaped(piece.words)}}}"
    if isinstance(piece, Notes):
        items = "\n".join(f"\\item {_lines(n)}" for n in piece.notes)
        return f"\\paragraph*{{{escaped(piece.heading)}}}\n\\begin{{itemize}}\n{items}\n\\end{{itemize}}"
    return ""


def _lines(text: str) -> str:
    return "\\\\\n".join(("{}" if line[:1] in ("[", "*") else "") + escaped(line) for line in text.split("\n"))


def _table(grid: Grid) -> str:
    """One table over as many pages as it needs; a caption where the grid has a heading."""
    left = [i == 0 or isinstance(n, Left) for i, n in enumerate(grid.columns)]
    n = len(grid.columns)
    size = "\\scriptsize" if n >= SMALLEST else "\\footnotesize" if n >= SMALL else "\\small"
    head = " & ".join(_cell(name, side) for name, side in zip(grid.columns, left))
    rows = [" & ".join(_cell(c, side) for c, side in zip(row, left)) + r" \\" for row in grid.rows]
    heading = f"\\textbf{{{escaped(grid.heading)}}}"
    caption = f"\\multicolumn{{{n}}}{{@{{}}l}}{{{heading}}} \\\\\n" if grid.heading else ""
    columns = "".join("l" if side else "r" for side in left)
    return "\n".join([
        f"{{{size}\\setlength{{\\tabcolsep}}{{4pt}}", f"\\begin{{longtable}}[l]{{@{{}}{columns}@{{}}}}", caption + r"\toprule", head + r" \\",
        r"\midrule", r"\endhead", *rows, r"\bottomrule", r"\end{longtable}}",
    ])  # fmt: skip


def _cell(text: str, left: bool) -> str:
    lines = [("{}" if line[:1] in ("[", "*") else "") + escaped(line) for line in text.split("\n")]
    if len(lines) == 1:
        return lines[0]
    return "\\shortstack[" + ("l" if left else "r") + "]{" + r" \\ ".join(lines) + "}"
