"""Are the numbers right on this machine? Reference problems with exact answers."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from bold_orchard.cli.command import Command
from bold_orchard.cli.options import output_options

if TYPE_CHECKING:
    from bold_orchard.answers import Answer
    from bold_orchard.cli.progress import Steps

EXAMPLE = """examples:
  orchard certify
  orchard certify --json --to certificate.html

exit code 0 where every figure has the digits it needs, 4 where one has not
"""


def add_options(parser: argparse.ArgumentParser) -> None:
    output_options(parser, idle=("figure", "confidence", "strips", "seed"))


def answer(args: argparse.Namespace, progress: Steps) -> Answer:
    from bold_orchard.api import certify

    return certify(progress=progress)


COMMAND = Command(str(__doc__), EXAMPLE, add_options, answer, working="certifying")
