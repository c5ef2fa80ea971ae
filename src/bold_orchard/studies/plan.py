"""Plan files: a study in TOML, read and checked before anything runs."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath
from typing import Any

from bold_orchard.errors import OrchardError, UsageError, nearest

TOP = ("title", "data", "fits", "steps")
DATA = ("file", "missing", "where")
CHANGES = "changes.md"  # what a run found to be another than before
STEP = ("command", "name", "after")  # keys that are no options of the command


@dataclass(frozen=True)
class Key:
    """How a command takes one of its options: ``flag``, ``one``, ``many`` (repeatable), or a place by itself (``places``).

    ``writes`` and ``reads`` mark the names of files, ``fits`` those of fits.
    """

    kind: str
    writes: bool = False
    reads: bool = False
    fits: bool = False


Commands = Mapping[str, Mapping[str, Key]]


@dataclass(frozen=True)
class Step:
    """A fit or a step of a plan; ``options`` by key, ``needs`` the steps before it, ``line`` where it stands in the file.

    ``made`` are the files it reads that steps before it write; ``lines`` where its keys stand.
    """

    name: str
    command: str
    options: dict[str, Any]
    needs: tuple[str, ...]
    line: int
    made: tuple[str, ...] = ()
    lines: Mapping[str, int] = field(default_factory=dict)


@dataclass(frozen=True)
class Plan:
    path: Path
    title: str
    data: dict[str, Any]
    steps: tuple[Step, ...]
    notes: tuple[str, ...] = field(default=())

    @property
    def folder(self) -> Path:
        return self.path.resolve().parent


def read_plan(path: str, commands: Commands, data: str | None = None, cluster: str | None = None) -> Plan:
    """The plan of a file, ``data`` in place of its own data file.

    A plan may come from anybody: what it writes stays in the folder of the run, and it calls no ``cluster`` but the one given here.

    Raises OrchardError for a file that cannot be read; UsageError, with the line, for what it cannot mean: keys and fits that
    are not there, steps that wait for each other, names that occur twice.
    """
    try:
        text = Path(path).read_text(encoding="utf-8")
    except OSError as e:
        near = sorted(p.name for p in Path(path).parent.glob("*.toml")) if Path(path).parent.is_dir() else []
        hint = f"; there is {near[0]}" if near else "; make one with: orchard plan FIT ... --to plan.toml"
        raise OrchardError(f"{path} cannot be read: {e.strerror}{hint}") from None
    except UnicodeDecodeError:
        raise OrchardError(f"{path} is no text in UTF-8, so it is no plan") from None
    try:
        made = tomllib.loads(text)
    except tomllib.TOMLDecodeError as e:
        raise UsageError(f"{path} is not TOML: {e}; texts stand in quotes, lists in [ ]") from None
    return _Reader(Path(path), text, made, commands, cluster).plan(data)


class _Reader:
    def __init__(self, path: Path, text: str, made: dict[str, Any], commands: Commands, cluster: str | None) -> None:
        self.path, self.lines, self.made, self.commands, self.cluster = path, text.split("\n"), made, commands, cluster
        self.written = {CHANGES: "the run itself"}  # file -> the step that writes it

    def plan(self, data: str | None) -> Plan:
        self.known(self.made, TOP, "a plan", "")
        table = self.of_kind(self.made.get("data", {}), dict, "data", "[data]")
        self.known(table, DATA, "[data]", "data")
        table = dict(table)
        if data is not None:
            table["file"] = str(Path(data).resolve())
        fits = self.of_kind(self.made.get("fits", {}), dict, "fits", "[fits.NAME]")
        steps = [self.fit(name, options, table) for name, options in fits.items()]
        listed = self.of_kind(self.made.get("steps", []), list, "steps", "[[steps]]")
        for place, options in enumerate(listed):
            steps.append(self.step(place, options, table, list(fits), steps))
        if not steps:
            raise UsageError(f"{self.path} has no [fits.NAME] and no [[steps]], so there is nothing to run")
        return Plan(self.path, str(self.made.get("title", self.path.stem)), table, tuple(_ordered(self.path, steps)))

    def of_kind(self, value: Any, kind: type, name: str, form: str) -> Any:
        if not isinstance(value, kind):
            raise UsageError(f"{self.where('', name)}: '{name}' is written {form}")
        return value

    def where(self, table: str, key: str, place: int = 0) -> str:
        return f"{self.path} line {self.line(table, key, place)}"

    def line(self, table: str, key: str | None, place: int = 0) -> int:
        """The line of a key in its table, or of the table's head; ``place`` counts the [[steps]] before it."""
        at, seen, head = "", -1, 1
        for number, line in enumerate(self.lines, start=1):
            found = re.match(r"\s*\[\[?\s*([^\]]+?)\s*\]\]?", line)
            if found:
                at = found[1].replace('"', "").replace("'", "")
                seen += at == "steps"
                if at == table and (table != "steps" or seen == place):
                    head = number
            here = at == table and (table != "steps" or seen == place)
            if here and not found and key is not None and re.match(rf"\s*[\"']?{re.escape(key)}[\"']?\s*[=.]", line):
                return number
        return head

    def known(self, table: dict[str, Any], keys: Any, what: str, at: str, place: int = 0) -> None:
        for key in table:
            plain = key.replace("_", "-")
            if plain not in keys and key not in keys:
                near = nearest(plain, list(keys))
                hint = f"did you mean '{near}'?" if near else "there are: " + ", ".join(keys)
                raise UsageError(f"{self.where(at, key, place)}: {what} has no '{key}'; {hint}")

    def fit(self, name: str, options: Any, data: dict[str, Any]) -> Step:
        at = f"fits.{name}"
        if not isinstance(options, dict):
            raise UsageError(f"{self.where('fits', name)}: a fit is written [fits.{name}] with its sentence below")
        self.file_name(name, at, "", 0)
        self.known(options, self.commands["fit"], "fit", at)
        if "sentence" not in options:
            raise UsageError(f"{self.path} line {self.line(at, None)}: the fit '{name}' has no sentence")
        made: dict[str, Any] = (
            {"data": data.get("file")} | {k: data[k] for k in ("missing", "where") if k in data} | _plain(options)
        )
        if made["data"] is None:
            raise UsageError(
                f"{self.path} line {self.line(at, None)}: there is no data file for '{name}'; write file = \"...\" under [data]"
            )
        self.typed("fit", made, at, 0)
        self.kept_inside(name, "fit", made, at, 0)
        return Step(name, "fit", made, (), self.line(at, None), (), self.lines_of(options, at, data, 0))

    def lines_of(self, options: dict[str, Any], at: str, data: dict[str, Any], place: int) -> dict[str, int]:
        """Where the keys of a step stand, those that it has from [data] there."""
        shared = {"data" if k == "file" else k: self.line("data", k) for k in data}
        return shared | {k.replace("_", "-"): self.line(at, k, place) for k in options}

    def step(self, place: int, options: Any, data: dict[str, Any], fits: list[str], before: list[Step]) -> Step:
        line = self.line("steps", None, place)
        if not isinstance(options, dict) or not isinstance(options.get("command"), str):
            raise UsageError(f'{self.path} line {line}: a step needs a command, for example  command = "compare"')
        command = options["command"]
        if command not in self.commands or command in ("fit", "run", "plan", "demo", "completion"):
            near = nearest(command, [c for c in self.commands if c != "fit"])
            hint = f"did you mean '{near}'?" if near else "fits stand under [fits.NAME]" if command == "fit" else ""
            raise UsageError(
                f"{self.where('steps', 'command', place)}: there is no step '{command}'; {hint}".rstrip("; ")
            )
        keys = self.commands[command]
        self.known(options, (*keys, *STEP), command, "steps", place)
        made = {k: v for k, v in _plain(options).items() if k not in STEP}
        if "data" in keys and command == "scout":
            made = {"data": data.get("file"), **{k: data[k] for k in ("missing", "where") if k in data}, **made}
        self.typed(command, made, "steps", place)
        needs = self.fits_of(made, keys, fits, place)
        after = options.get("after", [])
        needs += [after] if isinstance(after, str) else list(after)
        makers = {str(made[k]): s.name for k in made if keys[k].reads for s in before if str(made[k]) in self.writes(s)}
        needs += makers.values()
        name = _name(options, command, made, [s.name for s in before])
        self.file_name(name, "steps", "name", place)
        self.kept_inside(name, command, made, "steps", place)
        lines = self.lines_of(options, "steps", data, place)
        return Step(name, command, made, tuple(dict.fromkeys(needs)), line, tuple(makers), lines)

    def writes(self, step: Step) -> list[str]:
        """The files that a step names to be written."""
        keys = self.commands[step.command]
        named = [v for k, v in step.options.items() if keys[k].writes]
        return [str(x) for v in named for x in (v if isinstance(v, list) else [v])]

    def file_name(self, name: str, at: str, key: str, place: int) -> None:
        """A step bears the name of its files."""
        if re.search(r"[/\\\0]", name) or not name.strip() or name.startswith("."):
            raise UsageError(
                f"{self.where(at, key, place)}: '{name}' is no name of a fit or a step; leave slashes and a leading dot out"
            )

    def kept_inside(self, name: str, command: str, options: dict[str, Any], at: str, place: int) -> None:
        """Refuse files outside the folder of the run, two steps that write one file, and workers that the user did not name."""
        for key, value in options.items():
            if not self.commands[command][key].writes:
                continue
            for file in value if isinstance(value, list) else [value]:
                parts = PurePosixPath(str(file).replace("\\", "/")).parts
                if (
                    not parts
                    or ".." in parts
                    or parts[0] == "/"
                    or ":" in parts[0]
                    or any(p.startswith(".") for p in parts)
                ):
                    raise UsageError(
                        f"{self.where(at, key, place)}: '{file}' is no file inside the folder of the run; give a name without .. or a leading / or ."
                    )
        for file in outputs(name, command, options, self.commands):
            if file in self.written:
                raise UsageError(
                    f"{self.where(at, '', place)}: '{name}' would write {file}, which {self.written[file]} writes"
                )
            self.written[file] = f"'{name}'"
        if "cluster" in options:
            if self.cluster is None:
                raise UsageError(
                    f"{self.where(at, 'cluster', place)}: the plan calls the workers at {options['cluster']}; "
                    "name them yourself if that is meant: orchard run PLAN --cluster ADDRESS"
                )
            options["cluster"] = self.cluster

    def typed(self, command: str, options: dict[str, Any], at: str, place: int) -> None:
        for key, value in options.items():
            kind = self.commands[command][key].kind
            if kind == "flag" and not isinstance(value, bool):
                raise UsageError(f"{self.where(at, key, place)}: '{key}' is true or false, not {value!r}")
            if kind != "flag" and (
                isinstance(value, (bool, dict))
                or (isinstance(value, list) and any(isinstance(v, (dict, list)) for v in value))
            ):
                raise UsageError(
                    f"{self.where(at, key, place)}: '{key}' takes a text, a number or a list of these, not {value!r}"
                )

    def fits_of(self, options: dict[str, Any], keys: Mapping[str, Key], fits: list[str], place: int) -> list[str]:
        needs = []
        for key, value in options.items():
            if not keys[key].fits:
                continue
            for name in value if isinstance(value, list) else [value]:
                if name not in fits:
                    near = nearest(str(name), fits)
                    raise UsageError(
                        f"{self.where('steps', key, place)}: there is no fit '{name}' in the plan"
                        + (f"; did you mean '{near}'?" if near else "; fits stand under [fits.NAME]")
                    )
                needs.append(str(name))
        return needs


def outputs(name: str, command: str, options: Mapping[str, Any], commands: Commands) -> list[str]:
    """Files that a step writes, inside the folder of the run: its page and its document, and those it names."""
    named = [
        PurePosixPath(str(v).replace("\\", "/")).as_posix()
        for key, value in options.items()
        if commands[command][key].writes
        for v in (value if isinstance(value, list) else [value])
    ]
    return [f"{name}.txt", f"{name}.fit.json" if command == "fit" else f"{name}.json", *named]


def _plain(options: dict[str, Any]) -> dict[str, Any]:
    """Keys as the options are written, with hyphens; those of places by themselves have none."""
    return {k if k in STEP else k.replace("_", "-"): v for k, v in options.items()}


def _name(options: dict[str, Any], command: str, made: dict[str, Any], taken: list[str]) -> str:
    """The name asked for; else the command, with the fit if it is one, with a number if it is taken."""
    name = str(options.get("name") or (f"{command}-{made['fit']}" if isinstance(made.get("fit"), str) else command))
    out, k = name, 1
    while out in taken:
        k += 1
        out = f"{name}-{k}"
    return out


def _ordered(path: Path, steps: list[Step]) -> list[Step]:
    """In the order written, each after what it needs; raises UsageError for a circle and for names that are not there."""
    known = {s.name: s for s in steps}
    for s in steps:
        for need in s.needs:
            if need not in known:
                near = nearest(need, list(known))
                raise UsageError(
                    f"{path} line {s.line}: '{s.name}' waits for '{need}', which is not in the plan"
                    + (f"; did you mean '{near}'?" if near else "")
                )
    out: list[Step] = []
    state: dict[str, int] = {}

    def visit(s: Step, trail: tuple[str, ...]) -> None:
        if state.get(s.name) == 2:
            return
        if state.get(s.name) == 1:
            circle = " -> ".join([*trail[trail.index(s.name) :], s.name])
            raise UsageError(f"{path} line {s.line}: these steps wait for each other: {circle}; take one 'after' out")
        state[s.name] = 1
        for need in s.needs:
            visit(known[need], (*trail, s.name))
        state[s.name] = 2
        out.append(s)

    for s in sorted(steps, key=lambda s: s.command == "fit"):  # a fit stands before the first step that needs it
        visit(s, ())
    return out
