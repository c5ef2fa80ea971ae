"""The core knows no interface; nothing heavy is loaded before it is needed."""

from __future__ import annotations

import ast
import functools
import re
import subprocess
import sys
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

ROOT = Path(__file__).parent.parent.parent / "src" / "bold_orchard"
# Each room may use those before it, none after it.
ORDER = (
    "errors", "wording", "own_parameter", "progress", "threads", "workers", "families", "results", "optimize", "sentence", "data", "covariance", "design", "parameters", "crossproducts", "likelihood",
    "estimation", "inference", "diagnostics", "classical", "planning", "validation", "sampling", "carrying", "imputing", "certificate", "storage", "reporting", "answers", "tables", "scouting", "studies", "planned", "sampled", "carried", "fitted", "fits", "api", "demo", "cli",
)  # fmt: skip
CORE = ORDER[: ORDER.index("storage") + 1]
INTERFACE = ("argparse", "matplotlib", "rich")


def room_of(path):
    return path.relative_to(ROOT).parts[0].removesuffix(".py")


@functools.cache
def imports(path):
    names = []
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            names += [a.name for a in node.names]
        elif isinstance(node, ast.ImportFrom):
            names += [node.module or "", *(f"{node.module}.{a.name}" for a in node.names)]
    return names


def arrows(path):
    """Modules of ours that a file imports, at its head or inside its functions."""
    for name in imports(path):
        if name.startswith("bold_orchard."):
            place = ROOT.joinpath(*name.split(".")[1:])
            if place.with_suffix(".py").exists():
                yield place.with_suffix(".py")


@pytest.mark.parametrize(
    "path",
    [p for p in sorted(ROOT.rglob("*.py")) if p.parent != ROOT or p.stem in ORDER],
    ids=lambda p: str(p.relative_to(ROOT)),
)
def test_arrows_point_one_way(path):
    above = ORDER[ORDER.index(room_of(path)) + 1 :]
    assert not [p.relative_to(ROOT) for p in arrows(path) if room_of(p) in above]


def test_no_circle_of_files():
    graph = {p: set(arrows(p)) - {p} for p in ROOT.rglob("*.py")}
    while free := [p for p, to in graph.items() if not to & set(graph)]:
        for p in free:
            del graph[p]
    assert not [str(p.relative_to(ROOT)) for p in graph]


@pytest.mark.parametrize("room", CORE)
def test_the_core_has_no_interface_code(room):
    for path in (p for p in ROOT.rglob("*.py") if room_of(p) == room):
        assert not {n.split(".")[0] for n in imports(path)} & set(INTERFACE), path
        assert not re.search(r"\bprint\(", path.read_text()), path


SHOWS = ("errors", "wording", "results", "reporting")
ASKS = (
    *SHOWS,
    "threads",
    "families",
    "sentence",
    "storage",
    "answers",
    "tables",
    "studies",
    "planned",
    "fits",
    "api",
    "demo",
    "cli",
    "sampled",
)


@pytest.mark.parametrize(("room", "may"), [("reporting", SHOWS), ("cli", ASKS)])
def test_what_shows_and_what_asks_know_no_numerics(room, may):
    for path in (p for p in ROOT.rglob("*.py") if room_of(p) == room):
        assert not {room_of(p) for p in arrows(path)} - set(may), path


def loaded_after(*arguments):
    code = ("import sys; from bold_orchard.cli.main import main; main(sys.argv[1:]); "
            "print('\\n'.join(sys.modules), file=sys.stderr)")  # fmt: skip
    done = subprocess.run([sys.executable, "-c", code, *arguments], capture_output=True, text=True)
    return set(done.stderr.split())


def test_version_and_help_load_nothing_heavy(harvest):
    assert not loaded_after("--version") & {"numpy", "pandas", "scipy", "matplotlib", "rich", "lark"}
    assert not loaded_after("fit", "--help") & {"numpy", "pandas", "scipy", "matplotlib", "rich", "lark"}
    modules = loaded_after("fit", str(harvest), "yield = rain; each orchard: intercept", "--json")
    assert "numpy" in modules and not modules & {"matplotlib", "rich", "pandas", "pyarrow"}


def test_many_rows_wake_neither_pandas_nor_an_optimiser(tmp_path, monkeypatch):
    """Nor do their predictions, written to a file."""
    monkeypatch.chdir(tmp_path)
    r = np.random.default_rng(1)
    tree = r.integers(0, 3000, 60_000)
    columns = {
        "orchard": tree // 30,
        "tree": tree % 30,
        "soil": np.array(["clay", "loam"])[tree % 2],
        "crop": r.normal(size=60_000),
    }
    pd.DataFrame(columns).to_csv("large.csv", index=False)
    sentence = "crop = soil; each orchard: intercept; each tree in orchard: intercept"
    heavy = {"pandas", "matplotlib", "scipy.optimize", "scipy.stats"}
    assert not loaded_after("fit", "large.csv", sentence, "--save", "large", "--quiet") & heavy
    assert not loaded_after("predict", "large", "--csv", "large-predicted.csv", "--quiet") & heavy
    assert len(Path("large-predicted.csv").read_text().splitlines()) == 60_001


def test_a_picture_loads_no_frames(harvest, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    loaded_after("fit", str(harvest), "yield = rain; each orchard: intercept", "--save", "m", "--quiet")
    loaded = loaded_after("check", "m", "--figure", "m.png", "--quiet")
    assert (
        "matplotlib.figure" in loaded
        and not loaded & {"scipy.sparse", "pandas"}
        and Path("m.png").stat().st_size > 10_000
    )


def test_a_command_changes_no_module_of_others(harvest):
    """In the caller's process NumPy keeps its docstrings and Matplotlib its axes of three dimensions."""
    code = (
        "import sys; from bold_orchard.cli.main import main; main(sys.argv[1:]); import numpy as np; from mpl_toolkits import mplot3d;"
        "assert np.sum.__doc__ and np.ndarray.sum.__doc__; assert mplot3d.Axes3D.__module__ == 'mpl_toolkits.mplot3d.axes3d'"
    )
    arguments = ["fit", str(harvest), "yield = rain; each orchard: intercept", "--quiet"]
    done = subprocess.run([sys.executable, "-c", code, *arguments], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr


def test_files_are_short():
    for path in [*ROOT.rglob("*.py"), *Path(__file__).parent.parent.rglob("*.py")]:
        text = path.read_text()
        documented = sum(_lines_of_docstring(node) for node in ast.walk(ast.parse(text)))
        assert len(text.splitlines()) - documented <= 500, path  # some 400; a class stays in one file


def _lines_of_docstring(node):
    """Lines that tell of a function's parameters and answers, which are no code to get through."""
    if not isinstance(node, (ast.FunctionDef, ast.AsyncFunctionDef)) or ast.get_docstring(node) is None:
        return 0
    return node.body[0].end_lineno - node.body[0].lineno


def test_shipped_data_come_from_the_generator(tmp_path):
    from bold_orchard.demo.generate import FILES, write

    write(tmp_path)
    for name in FILES:
        assert (tmp_path / name).read_bytes() == (ROOT / "demo" / "data" / name).read_bytes()


def test_the_public_road():
    import bold_orchard

    assert all(getattr(bold_orchard, name) is not None for name in bold_orchard.__all__)

    table = bold_orchard.read_table(ROOT / "demo" / "data" / "harvest.csv", ["-999"])
    one = bold_orchard.fit("yield = intercept; each orchard: intercept", table, name="one")
    two = bold_orchard.fit("yield = rain; each orchard: intercept", table, name="two")
    assert bold_orchard.compare([one, two])["tests"][0]["larger"] == "two"
    with pytest.raises(AttributeError):
        _ = bold_orchard.nothing


def test_every_file_of_tests_has_a_name_of_its_own():
    """Two of one name stop the whole run before it begins."""
    names = [p.name for p in Path(__file__).parent.parent.rglob("test_*.py")]
    assert len(names) == len(set(names))


def test_no_heading_of_a_page_holds_a_mark_of_alignment():
    """Alignment is no character of the text: Left("what"), not "<what"."""
    marked = re.compile(r"""["']<(?:["'{]|\w+["'])""")
    pages = (ROOT / "reporting" / "pages").rglob("*.py")
    found = [
        f"{p.name}: {line}"
        for p in pages
        for line in p.read_text().splitlines()
        if "startswith" not in line and marked.search(line)
    ]
    assert not found
