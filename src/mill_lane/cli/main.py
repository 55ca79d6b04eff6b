"""Reading the arguments, running a command, telling errors."""

from __future__ import annotations

import argparse
import json
import sys

from mill_lane import __version__
from mill_lane.cli.check import CHECK
from mill_lane.cli.command import Command
from mill_lane.cli.compare import COMPARE
from mill_lane.cli.demo import DEMO
from mill_lane.cli.denoise import DENOISE
from mill_lane.cli.render import RENDER
from mill_lane.cli.report import REPORT
from mill_lane.cli.run import RUN
from mill_lane.cli.serve import SERVE
from mill_lane.cli.trim import TRIM
from mill_lane.cli.weigh import WEIGH
from mill_lane.core.errors import MillError
from mill_lane.core.registry import Registry

COMMANDS: Registry[Command] = Registry(
    "command", DEMO, SERVE, WEIGH, RENDER, RUN, CHECK, REPORT, TRIM, DENOISE, COMPARE
)


def main(arguments: list[str] | None = None) -> int:
    """Run a command.

    Returns
    -------
    int
        The exit status: 0, or after an error that was told 1, for serving 2; or what the command
        says.
    """
    args = build_parser().parse_args(arguments)
    try:
        result = args.run(args)
    except MillError as e:
        if args.json:
            print(json.dumps({"error": e.message, "hint": e.hint}))
        else:
            print(f"mill-lane: {e.message} {e.hint}", file=sys.stderr)
        return int(args.error_status)
    except KeyboardInterrupt:
        print("mill-lane: stopped", file=sys.stderr)
        return 1
    if args.json and result is not None:
        print(json.dumps(result))
    return int((result or {}).get("status", 0))


def build_parser() -> argparse.ArgumentParser:
    """Make the parser of all commands."""
    parser = argparse.ArgumentParser(
        prog="mill-lane", description="Fit a 3D scene to the computer at hand."
    )
    parser.add_argument("--version", action="version", version=__version__)
    commands = parser.add_subparsers(required=True, metavar="COMMAND")
    for command in COMMANDS:
        sub = commands.add_parser(command.name, help=command.text, description=command.text)
        sub.add_argument(
            "--json", action="store_true", help="print one JSON object on standard output"
        )
        command.add_arguments(sub)
        sub.set_defaults(run=command.run, error_status=command.error_status)
    return parser
