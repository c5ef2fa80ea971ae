"""The core knows no interface; nothing heavy is loaded before it is needed."""

from __future__ import annotations

import ast
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent / "src" / "bold_orchard"
CORE = [
    "sentence",
    "table",
    "design",
    "covariance",
    "likelihood",
    "inference",
    "diagnostics",
    "fitting.py",
    "search.py",
    "errors.py",
]
FORBIDDEN = {
    "sentence": ("table", "design", "likelihood", "fitting", "numpy", "pandas"),
    "table": ("design", "likelihood", "fitting", "covariance"),
    "covariance": ("table", "sentence", "design", "likelihood", "fitting"),
    "likelihood": ("table", "sentence", "design", "fitting", "pandas"),
    "text": ("numpy", "scipy", "fitting", "likelihood", "design"),
    "demo": ("fitting", "table", "design", "likelihood", "cli"),
}


def files(room):
    path = ROOT / room
    return [path] if path.is_file() else sorted(path.rglob("*.py"))


def imports(path):
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            yield from (a.name for a in node.names)
        elif isinstance(node, ast.ImportFrom):
            yield node.module or ""


@pytest.mark.parametrize("room", CORE)
def test_the_core_has_no_interface_code(room):
    for path in files(room):
        for name in imports(path):
            assert name.split(".")[0] not in ("argparse", "matplotlib", "rich"), (path, name)
            assert not name.startswith(("bold_orchard.cli", "bold_orchard.text", "bold_orchard.figures")), (
                path,
                name,
            )
        assert "print(" not in path.read_text(), path


@pytest.mark.parametrize("room", FORBIDDEN)
def test_arrows_point_one_way(room):
    for path in files(room):
        for name in imports(path):
            part = name.removeprefix("bold_orchard.").split(".")[0]
            assert part not in FORBIDDEN[room], (path, name)


def loaded_after(*arguments):
    code = ("import sys; from bold_orchard.cli.main import main; main(sys.argv[1:]); "
            "print('\\n'.join(m for m in sys.modules if '.' not in m), file=sys.stderr)")  # fmt: skip
    done = subprocess.run([sys.executable, "-c", code, *arguments], capture_output=True, text=True)
    return set(done.stderr.split())


def test_version_and_help_load_nothing_heavy(harvest):
    assert not loaded_after("--version") & {"numpy", "pandas", "scipy", "matplotlib", "rich", "lark"}
    assert not loaded_after("fit", "--help") & {"numpy", "pandas", "scipy", "matplotlib", "rich", "lark"}
    modules = loaded_after("fit", str(harvest), "yield = rain; each orchard: intercept", "--json")
    assert "pandas" in modules and not modules & {"matplotlib", "rich"}


def test_files_are_short():
    for path in [*ROOT.rglob("*.py"), *Path(__file__).parent.rglob("*.py")]:
        assert len(path.read_text().splitlines()) <= 400, path


def test_shipped_data_come_from_the_generator(tmp_path):
    from bold_orchard.demo.generate import FILES, write

    write(tmp_path)
    for name in FILES:
        assert (tmp_path / name).read_bytes() == (ROOT / "demo" / "data" / name).read_bytes()


def test_the_public_road():
    import bold_orchard

    table = bold_orchard.read_table(ROOT / "demo" / "data" / "harvest.csv", ["-999"])
    one = bold_orchard.fit("yield = intercept; each orchard: intercept", table, name="one")
    two = bold_orchard.fit("yield = rain; each orchard: intercept", table, name="two")
    assert bold_orchard.compare([one, two])["tests"][0]["larger"] == "two"
    with pytest.raises(AttributeError):
        _ = bold_orchard.nothing
