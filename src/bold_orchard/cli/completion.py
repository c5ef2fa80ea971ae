"""Completion of commands, options and saved fits by the tab key: bash, zsh and fish."""

from __future__ import annotations

import argparse
import importlib
import sys
from pathlib import Path
from typing import Any

from bold_orchard.errors import OrchardError

EXAMPLE = """examples:
  orchard completion bash >> ~/.bashrc
  orchard completion zsh >> ~/.zshrc
  orchard completion fish > ~/.config/fish/completions/orchard.fish
"""
SHELLS = ("bash", "zsh", "fish")


def add_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("shell", metavar="SHELL", choices=SHELLS, help="bash, zsh or fish")


def run(args: argparse.Namespace) -> int:
    """Print what the shell reads at its start."""
    try:
        from argcomplete.shell_integration import shellcode
    except ImportError:
        raise OrchardError("completion needs the package argcomplete: pip install 'bold-orchard[completion]'") from None
    print(shellcode(["orchard"], shell=args.shell))
    return 0


def complete(commands: dict[str, str]) -> None:
    """Answer the shell's question, asked through the environment, and leave."""
    import argcomplete

    parser = argparse.ArgumentParser(prog="orchard")
    inner = parser.add_subparsers()
    for name, about in commands.items():
        module = importlib.import_module(f"bold_orchard.cli.{name}")
        own = inner.add_parser(name, help=about)
        module.add_options(own)
        for action in own._actions:
            if action.dest in ("fit", "fits", "against"):
                completer: Any = action
                completer.completer = saved_fits
    argcomplete.autocomplete(parser, exit_method=sys.exit)


def saved_fits(prefix: str, **ignored: Any) -> list[str]:
    """Names of the fits in the folder that begin so."""
    return sorted(n for p in Path().glob("*.fit.json") if (n := p.name.removesuffix(".fit.json")).startswith(prefix))
