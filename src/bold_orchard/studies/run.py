"""Carrying out a plan: what has not changed is kept, the rest redone, and what changed in the estimates is told."""

from __future__ import annotations

import hashlib
import json
import os
import re
import tempfile
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from bold_orchard import __version__
from bold_orchard.data.parts import digest as digest_of
from bold_orchard.data.parts import parts_of
from bold_orchard.data.read import check_there
from bold_orchard.errors import OrchardError, SentenceError, UsageError, nearest
from bold_orchard.results.run import RunResult
from bold_orchard.storage.files import write_text
from bold_orchard.studies.changes import changes_between, estimates_of, told
from bold_orchard.studies.plan import CHANGES, Commands, Key, Plan, Step, outputs

SCHEMA = "bold-orchard/run/1"
STATE = ".orchard-run.json"
STOPPED = 130  # exit code of a step that the keyboard stopped


@dataclass(frozen=True)
class Workshop:
    """How steps are done: ``perform`` takes a command's words and gives its exit code and its error; ``examine`` raises
    OrchardError for what can be told to be wrong with them before anything runs; ``say`` tells a person."""

    commands: Commands
    perform: Callable[[list[str]], tuple[int, str]]
    examine: Callable[[list[str]], None]
    say: Callable[[str], None] = lambda text: None


@dataclass
class _Progress:
    done: dict[str, str] = field(default_factory=dict)  # step -> fingerprint
    failed: dict[str, int] = field(default_factory=dict)
    rows: list[dict[str, Any]] = field(default_factory=list)


def carry_out(
    plan: Plan, into: Path, shop: Workshop, only: str | None = None, check: bool = False
) -> tuple[RunResult, int]:
    """Run a plan; returns its document and the exit code of the first step that failed.

    Raises OrchardError for a folder that cannot be written and, with the line, for files that are not there and words
    that no command takes, before anything runs; UsageError for a step that is not there. With ``check`` nothing is run
    or written.
    """
    steps = _chosen(plan, only)
    with tempfile.TemporaryDirectory() as nowhere:
        for step in steps:
            _examine(plan, step, shop, Path(nowhere))
    _spare_what_is_read(plan, steps, into, shop.commands)
    if not check:
        _made_folder(into)
    state, progress = _read_state(into), _Progress()
    before = state.get("estimates", {})
    for number, step in enumerate(steps, start=1):
        _one(plan, step, into, shop, state, progress, check, f"[{number}/{len(steps)}]")
        if STOPPED in progress.failed.values():
            raise KeyboardInterrupt
    changes = [] if check else _told_changes(plan, into, state, before)
    result = RunResult.from_dict({
        "schema": SCHEMA, "plan": plan.path.name, "into": into.name, "title": plan.title, "steps": progress.rows, "changes": changes,
        "notes": _calls(steps) if check else [],
    })  # fmt: skip
    return result, next(iter(progress.failed.values()), 0)


def _examine(plan: Plan, step: Step, shop: Workshop, nowhere: Path) -> None:
    """Raise OrchardError, with the line, for what is wrong with a step before anything runs; ``nowhere`` is a folder to
    name files in."""
    key, commands = "", shop.commands
    try:
        for key, how in commands[step.command].items():
            if how.reads and key in step.options and str(step.options[key]) not in step.made:
                check_there(str(step.options[key]))
        for path in _outputs(step, nowhere, commands):
            path.parent.mkdir(parents=True, exist_ok=True)
        key = ""
        shop.examine(_words(step, nowhere, commands))
    except OrchardError as e:
        told = str(e).replace(f"{nowhere}{os.sep}", "")
        key = key or (
            "sentence"
            if isinstance(e, SentenceError)
            else next((k for k in step.lines if re.search(rf"--{re.escape(k)}\b", told)), "")
        )
        place = f"{plan.path} line {step.lines.get(key, step.line)}"
        raise (UsageError if isinstance(e, UsageError) else OrchardError)(f"{place}: '{step.name}': {told}") from None


def _calls(steps: list[Step]) -> list[str]:
    called = {str(s.options["cluster"]): s.name for s in steps if "cluster" in s.options}
    return [f"'{name}' calls the workers at {address}." for address, name in called.items()]


def _chosen(plan: Plan, only: str | None) -> list[Step]:
    """All steps, or one with what it needs."""
    if only is None:
        return list(plan.steps)
    known = {s.name: s for s in plan.steps}
    if only not in known:
        near = nearest(only, list(known))
        raise UsageError(
            f"there is no step '{only}' in {plan.path}; "
            + (f"did you mean '{near}'?" if near else f"there are: {', '.join(known)}")
        )
    wanted = {only}
    for step in reversed(plan.steps):
        if step.name in wanted:
            wanted |= set(step.needs)
    return [s for s in plan.steps if s.name in wanted]


def _made_folder(into: Path) -> None:
    try:
        into.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryFile(dir=into):
            pass
    except OSError as e:
        raise OrchardError(f"{into} cannot be written: {e.strerror}; give another folder with --into") from None


def _one(
    plan: Plan, step: Step, into: Path, shop: Workshop, state: dict[str, Any], progress: _Progress, check: bool, number: str
) -> None:  # fmt: skip
    row: dict[str, Any] = {
        "step": step.name,
        "command": step.command,
        "state": "",
        "reason": "",
        "code": None,
        "files": [],
    }
    progress.rows.append(row)
    broken = [n for n in step.needs if n in progress.failed]
    if broken:
        row |= {"state": "left out", "reason": f"{' and '.join(broken)} failed"}
        progress.failed[step.name] = progress.failed[broken[0]]
        shop.say(f"{number} {step.name}: left out, because {row['reason']}")
        return
    definition = _definition(plan, step, progress, shop.commands[step.command])
    mark = _digest(json.dumps(definition, sort_keys=True).encode())
    why = _why(state["steps"].get(step.name), definition, mark, into)
    outputs = _outputs(step, into, shop.commands)
    row["files"] = [str(p.relative_to(into)) for p in outputs]
    progress.done[step.name] = mark
    if why is None:
        row |= {"state": "kept", "reason": "nothing it depends on has changed"}
        shop.say(f"{number} {step.name}: kept")
        return
    if check:
        row |= {"state": "would run", "reason": why}
        return
    shop.say(f"{number} {step.name}: {why} ...")
    for path in outputs:
        path.parent.mkdir(parents=True, exist_ok=True)
    code, error = shop.perform(_words(step, into, shop.commands))
    row |= {
        "state": "done" if code == 0 else "failed",
        "reason": why if code == 0 else error.removeprefix("orchard: ") or "it did not converge",
        "code": code,
    }
    if code:
        progress.failed[step.name] = code
        state["steps"].pop(step.name, None)
        shop.say(f"{number} {step.name}: failed: {row['reason']}")
    else:
        state["steps"][step.name] = {"fingerprint": mark, "definition": definition,
                                     "outputs": {str(p.relative_to(into)): _digest(p.read_bytes()) for p in outputs if p.is_file()}}  # fmt: skip
    _write_state(into, state)


def _definition(plan: Plan, step: Step, progress: _Progress, keys: Mapping[str, Key]) -> dict[str, Any]:
    """Everything the outcome of a step depends on."""
    files = {}
    read = [str(step.options[k]) for k, how in keys.items() if how.reads and step.options.get(k) is not None]
    for name in [n for n in read if n not in step.made] + _matrices(step):
        path = plan.folder / name
        files[name] = _digest(path.read_bytes()) if path.is_file() else _digest_of_parts(path)
    return {"version": __version__, "command": step.command, "options": step.options, "files": files,
            "needs": {n: progress.done.get(n, "") for n in step.needs}}  # fmt: skip


def _matrices(step: Step) -> list[str]:
    return re.findall(r"(?:known|given)(?:\s+units)?\s+[\"']([^\"']+)[\"']", str(step.options.get("sentence", "")))


def _why(kept: dict[str, Any] | None, new: dict[str, Any], mark: str, into: Path) -> str | None:
    """Why a step is done anew; None where it need not be."""
    if kept is None:
        return "new"
    old = kept["definition"]
    if kept["fingerprint"] == mark:
        for name, digest in kept["outputs"].items():
            path = into / name
            if not path.is_file() or _digest(path.read_bytes()) != digest:
                return f"{name} is missing or was changed"
        return None
    if old["version"] != new["version"]:
        return f"orchard is version {new['version']}, it was {old['version']}"
    for name in new["files"]:
        if old["files"].get(name) != new["files"][name]:
            return f"{Path(name).name} has changed"
    if old["options"] != new["options"]:
        keys = [k for k in {**old["options"], **new["options"]} if old["options"].get(k) != new["options"].get(k)]
        return f"its {' and '.join(keys)} changed"
    return f"{' and '.join(n for n, m in new['needs'].items() if old['needs'].get(n) != m) or 'what it needs'} changed"


def _outputs(step: Step, into: Path, commands: Commands) -> list[Path]:
    return [into / file for file in outputs(step.name, step.command, step.options, commands)]


def _spare_what_is_read(plan: Plan, steps: list[Step], into: Path, commands: Commands) -> None:
    """Refuse a run that would write over its plan or over what it reads."""
    read = {os.path.realpath(plan.path)}
    for step in steps:
        named = [str(step.options[k]) for k, how in commands[step.command].items() if how.reads and k in step.options]
        read |= {os.path.realpath(plan.folder / n) for n in (*named, *_matrices(step)) if n not in step.made}
    for step in steps:
        for path in _outputs(step, into, commands):
            if os.path.realpath(path) in read:
                raise UsageError(
                    f"{path} is read by this plan, and '{step.name}' would write over it; give another folder with --into"
                )


def _words(step: Step, into: Path, commands: Commands) -> list[str]:
    """The command as a person would type it in the plan's folder."""
    out: list[str] = []
    for key, value in step.options.items():
        how = commands[step.command][key]
        values = [str(v) for v in (value if isinstance(value, list) else [value])]
        if how.fits:
            values = [str(into / f"{v}.fit.json") for v in values]
        if how.writes or (how.reads and str(value) in step.made):
            values = [str(into / v) for v in values]
        if how.kind == "flag":
            out += [f"--{key}"] if value else []
        elif how.kind == "places":
            continue
        elif how.kind == "many":
            out += [f"--{key}={v}" for v in values]
        else:
            out.append(f"--{key}={','.join(values)}")
    page = into / f"{step.name}.txt"
    kept = [f"--save={into / step.name}"] if step.command == "fit" else [f"--to={into / (step.name + '.json')}"]
    order = [k for k in commands[step.command] if commands[step.command][k].kind == "places"]
    places = [w for k in order if k in step.options for w in _place(step, k, commands[step.command][k].fits, into)]
    return [step.command, *out, f"--to={page}", *kept, "--", *places]  # nothing among the places is an option


def _place(step: Step, key: str, fits: bool, into: Path) -> list[str]:
    value = step.options[key]
    if str(value) in step.made:
        return [str(into / str(value))]
    values = [str(v) for v in (value if isinstance(value, list) else [value])]
    return [str(into / f"{v}.fit.json") for v in values] if fits else values


def _told_changes(plan: Plan, into: Path, state: dict[str, Any], before: dict[str, Any]) -> list[dict[str, Any]]:
    """What is another than at the last run; the file of changes is written only when there are any."""
    after = {
        s.name: estimates_of(into / f"{s.name}.fit.json")
        for s in plan.steps
        if s.command == "fit" and (into / f"{s.name}.fit.json").is_file()
    }
    changes = changes_between(before, after)
    if changes:
        write_text(into / CHANGES, told(plan.title, changes))
    state["estimates"] = before | after
    _write_state(into, state)
    return changes


def _digest_of_parts(path: Path) -> str:
    """Of all files of a folder or a pattern."""
    try:
        return digest_of(path) if parts_of(str(path)) is not None else "missing"
    except OrchardError:
        return "missing"


def _digest(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


def _read_state(into: Path) -> dict[str, Any]:
    try:
        made = json.loads((into / STATE).read_text(encoding="utf-8"))
        estimates = made.get("estimates", {})
        sound = {name: kept for name, kept in made["steps"].items() if _sound(kept)}
        return {"steps": sound, "estimates": estimates if _sound_estimates(estimates) else {}}
    except (OSError, ValueError, KeyError, AttributeError):
        return {"steps": {}}


def _sound(kept: Any) -> bool:
    """Whether a step that was kept is told as it is written; anything else is done anew."""
    try:
        definition = kept["definition"]
        texts = [kept["fingerprint"], definition["version"], *kept["outputs"].values()]
        maps = [kept["outputs"], definition["files"], definition["options"], definition["needs"]]
        return all(isinstance(t, str) for t in texts) and all(isinstance(m, dict) for m in maps)
    except (KeyError, TypeError, AttributeError):
        return False


def _sound_estimates(estimates: Any) -> bool:
    """Whether they are figures by fit and name, each a value and its SE."""
    try:
        pairs = [pair for fit in estimates.values() for pair in fit.values()]
        return all(len(p) == 2 and all(v is None or isinstance(v, (int, float)) for v in p) for p in pairs)
    except (AttributeError, TypeError):
        return False


def _write_state(into: Path, state: dict[str, Any]) -> None:
    write_text(into / STATE, json.dumps(state, indent=1, sort_keys=True) + "\n")
