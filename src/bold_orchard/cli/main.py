"""The program ``orchard``: finds the command, runs it, and turns every problem into one line and an exit code."""

from __future__ import annotations

import argparse
import contextlib
import gc
import importlib
import io
import os
import sys
import warnings
from collections.abc import Sequence
from types import ModuleType

from bold_orchard import __version__
from bold_orchard.cli.interrupt import listen
from bold_orchard.cli.options import Parser
from bold_orchard.errors import OrchardError, UsageError, nearest, visible

COMMANDS = {
    "scout": "what are the columns, and which ones group the rows?",
    "fit": "what are the average effects, and how much do groups vary?",
    "scan": "one sentence, many outcomes: which of them does a term explain?",
    "show": "print a saved fit again, in any form",
    "explain": "the fit in plain sentences, to paste into a text",
    "compare": "is the larger model worth it?",
    "check": "do the residuals, at every level, behave?",
    "components": "how much variation sits at each level?",
    "terms": "which fixed terms matter (F or Wald tests)?",
    "anova": "the classical table: the right error for every line",
    "intervals": "Wald, profile-likelihood or bootstrap intervals for everything",
    "means": "adjusted means of a term's levels, differences between them",
    "groups": "what was predicted for each group, and how surely?",
    "predict": "predicted values for these or new rows",
    "sample": "what does the posterior say, under priors of your own?",
    "carry": "a second outcome explained by the effects of units, which are known with error",
    "simulate": "outcomes drawn from a fit, as rows of a file",
    "power": "how many units and rows does the next study need?",
    "equations": "the model written out, every symbol explained",
    "table": "fits side by side, as a paper shows them",
    "report": "one page that holds the study",
    "plan": "saved fits as a file that makes the study again",
    "run": "carry a plan out: what has not changed is kept",
    "draw": "the fitted lines over the data, group by group",
    "certify": "are the numbers right on this machine?",
    "completion": "commands, options and fits by the tab key",
    "demo": "everything above, on shipped data",
}


LOADED, OF_A_THREAD = (
    300 << 20,
    64 << 20,
)  # bytes of address space of the libraries, and of each thread of linear algebra
BROKEN = (
    "the numbers of this model leave what double precision can hold: columns that say nearly the same, or sizes far apart; "
    "look at them with orchard scout, or try a simpler sentence"
)


def program() -> None:
    """The entry point: run, flush, and leave without taking the libraries down piece by piece."""
    _check_standard_streams()
    # threads of OpenBLAS turn 2^16 cycles in wait of more work and then sleep: 2^26, its default, keeps a processor from ours after every product
    os.environ.setdefault("OPENBLAS_THREAD_TIMEOUT", "16")
    gc.set_threshold(200_000)  # one command and out: what is made stays in use
    listen()
    code = main()
    try:
        sys.stdout.flush()
    except BrokenPipeError:
        pass
    except OSError as e:
        code = _unwritable(e)
    with contextlib.suppress(OSError):
        sys.stderr.flush()
    os._exit(code)


def _check_standard_streams() -> None:
    """Closed streams are read and written as the null device; signs that an output lacks are written out."""
    for fd, name, mode in ((0, "stdin", "r"), (1, "stdout", "w"), (2, "stderr", "w")):
        if getattr(sys, name) is None:
            null = os.open(os.devnull, os.O_RDWR)
            if null != fd:  # a file opened later must not take the place of a stream that libraries write to
                os.dup2(null, fd)
            setattr(sys, name, os.fdopen(fd, mode, encoding="utf-8"))
    if isinstance(sys.stdout, io.TextIOWrapper) and sys.stdout.encoding.lower().replace("-", "") != "utf8":
        sys.stdout.reconfigure(errors="backslashreplace")


def _check_address_space() -> None:
    """Refuse to begin where the engine's libraries cannot even be loaded: there they wait for memory without end."""
    with contextlib.suppress(ImportError):
        import resource

        limit = resource.getrlimit(resource.RLIMIT_AS)[0]
        least = LOADED + OF_A_THREAD * (os.cpu_count() or 1)
        if limit != resource.RLIM_INFINITY and limit < least:
            raise OrchardError(
                f"the address space of this process is limited to {limit >> 20} MB, too little for NumPy; allow {least >> 20} MB (ulimit -v)"
            )


def _unwritable(e: OSError) -> int:
    with contextlib.suppress(OSError):
        print(
            f"orchard: the result cannot be written: {e.strerror or e}; make room, or send it elsewhere",
            file=sys.stderr,
        )
    return 3


def main(argv: Sequence[str] | None = None) -> int:
    """Run one command; returns its exit code."""
    arguments = list(sys.argv[1:] if argv is None else argv)
    try:
        with warnings.catch_warnings():
            if os.environ.get("ORCHARD_DEBUG") != "1":  # what arithmetic warns of is judged and said by the fit itself
                warnings.simplefilter("ignore")
            return _run(arguments)
    except OrchardError as e:
        print(f"orchard: {visible(str(e))}", file=sys.stderr)
        return e.exit_code
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as e:
        if os.environ.get("ORCHARD_DEBUG") == "1":
            raise
        return _unwritable(e)
    except MemoryError:
        print(
            "orchard: this machine's memory does not hold what is asked; use fewer rows (--where) or effects",
            file=sys.stderr,
        )
        return 3
    except KeyboardInterrupt:
        print("orchard: stopped; nothing was written", file=sys.stderr)
        return 130
    except SystemExit as e:
        return e.code if isinstance(e.code, int) else 2
    except Exception as e:
        if os.environ.get("ORCHARD_DEBUG") == "1":
            raise
        if isinstance(e, ArithmeticError) or type(e).__name__ == "LinAlgError":
            print(f"orchard: {BROKEN} ({type(e).__name__}: {e})", file=sys.stderr)
            return 3
        print(
            f"orchard: a defect of ours: {type(e).__name__}: {e} (ORCHARD_DEBUG=1 shows where; please report it)",
            file=sys.stderr,
        )
        return 1


def _run(arguments: list[str]) -> int:
    if arguments[:1] == ["help"] and len(arguments) > 1:
        arguments = [arguments[1], "--help"]
    if arguments[:1] in (["--version"], ["-V"]):
        print(f"bold-orchard {__version__}")
        return 0
    if "_ARGCOMPLETE" in os.environ:
        importlib.import_module("bold_orchard.cli.completion").complete(COMMANDS)
    if not arguments or arguments[0] in ("-h", "--help", "help"):
        print(_overview())
        return 0
    command, parser = parser_of(arguments[0])
    _check_address_space()
    args = parser.parse_args(arguments[1:])
    args.words = arguments[1:]
    if not hasattr(command, "COMMAND"):  # demo and completion, which have no answer
        return int(command.run(args))
    from bold_orchard.cli.driver import run

    return run(command.COMMAND, args)


def parser_of(name: str) -> tuple[ModuleType, Parser]:
    """The module of a command and what reads its options; raises UsageError for a command that does not exist."""
    if name not in COMMANDS:
        near = nearest(name, COMMANDS)
        hint = f"did you mean '{near}'?" if near else "there are: " + ", ".join(COMMANDS)
        raise UsageError(f"there is no command '{name}'; {hint}")
    command = importlib.import_module(f"bold_orchard.cli.{name}")
    parser = Parser(prog=f"orchard {name}", description=command.__doc__, epilog=command.EXAMPLE)
    parser.formatter_class = argparse.RawDescriptionHelpFormatter
    command.add_options(parser)
    return command, parser


def _overview() -> str:
    lines = [f"  orchard {name:<11} {question}" for name, question in COMMANDS.items()]
    return "\n".join(
        [
            "Bold Orchard fits mixed-effects models to grouped data.",
            "",
            *lines,
            "",
            "Start with:  orchard demo        or:  orchard scout DATA",
            "Help on one: orchard COMMAND --help",
        ]
    )


if __name__ == "__main__":
    program()
