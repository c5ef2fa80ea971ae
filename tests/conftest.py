from __future__ import annotations

import json
import os
import subprocess
import sys
from collections import Counter
from functools import cache
from pathlib import Path
from types import SimpleNamespace

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # two workers with two threads each stand in one another's way

import pytest
from hypothesis import settings
from jsonschema import Draft202012Validator

from bold_orchard.results.schema import SHIPPED
from warm import warm

settings.register_profile("steady", derandomize=True)  # the same examples in every run
settings.register_profile("explore", derandomize=False, print_blob=True)  # pytest --hypothesis-profile=explore
settings.load_profile("steady")

_begun: set[str] = set()
LONG = ("test_from_draws", "test_program", "test_documents", "test_power", "test_generalized", "test_every_model", "test_extension", "test_posterior",
        "test_commands", "test_pictures", "test_metamorphic", "test_carry", "test_interrupted", "test_hard")  # fmt: skip
PROGRAM = Path(sys.executable).parent / "orchard"
DATA = Path(__file__).parent.parent / "src" / "bold_orchard" / "demo" / "data"


@cache
def validator(command):
    return Draft202012Validator(json.loads((SHIPPED / f"{command}.json").read_text()))


class Outcome:
    def __init__(self, done):
        self.code, self.out, self.err = done.returncode, done.stdout, done.stderr

    @property
    def json(self):
        """The document, checked against the shipped schema of its command."""
        document = json.loads(self.out)
        assert validator(document["schema"].split("/")[1]).is_valid(document), self.faults(document)
        return document

    @staticmethod
    def faults(document):
        found = validator(document["schema"].split("/")[1]).iter_errors(document)
        return [f"{'/'.join(map(str, e.absolute_path))}: {e.message}" for e in found]


@pytest.fixture
def orchard(tmp_path):
    """Run the installed program in a temporary folder: each command once from its start, then without its imports."""

    def run(*arguments, stdin=None, text=True):
        words = [str(a) for a in arguments]
        if hasattr(os, "fork") and words and words[0] in _begun:
            sent = stdin.encode() if isinstance(stdin, str) else stdin or b""
            done = warm.run(words, tmp_path, sent)
            if text:
                done.stdout, done.stderr = (s.decode().replace("\r\n", "\n") for s in (done.stdout, done.stderr))
            return Outcome(done)
        _begun.update(words[:1])
        return Outcome(subprocess.run([PROGRAM, *words], cwd=tmp_path, capture_output=True, input=stdin, text=text, timeout=120))  # fmt: skip

    run.folder = tmp_path
    return run


@pytest.fixture
def quick(tmp_path, monkeypatch, capsys):
    """The same without a new process for every command: for tests that run many."""
    from bold_orchard.cli.main import main

    def run(*arguments):
        monkeypatch.chdir(tmp_path)
        capsys.readouterr()
        code = main([str(a) for a in arguments])
        captured = capsys.readouterr()
        return Outcome(SimpleNamespace(returncode=code, stdout=captured.out, stderr=captured.err))

    run.folder = tmp_path
    return run


@pytest.fixture
def harvest(tmp_path):
    """The shipped harvest data, copied into the temporary folder."""
    target = tmp_path / "harvest.csv"
    target.write_bytes((DATA / "harvest.csv").read_bytes())
    return target


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(items):
    """Of a test marked ``few`` the first cases alone are quick, the others slow; files that take longest go first, so
    that two workers end together."""
    seen = Counter()
    for item in items:
        marker = item.get_closest_marker("few")
        if marker is not None:
            name = item.nodeid.split("[")[0]
            if seen[name] >= marker.args[0]:
                item.add_marker(pytest.mark.slow)
            seen[name] += 1
    place = {name: i for i, name in enumerate(LONG)}
    items.sort(key=lambda item: place.get(item.path.stem, len(LONG)))
