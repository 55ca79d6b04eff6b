"""`mill-lane serve`: the application."""

from __future__ import annotations

from argparse import ArgumentParser
from pathlib import Path

from mill_lane.cli.command import Arguments, Command
from mill_lane.core.errors import MillError

SIZES = ("full", "medium", "small")
PORT = 8410


def add_address(sub: ArgumentParser) -> None:
    """Add what serving can be told: where to listen, and what to serve."""
    sub.add_argument("--host", default="127.0.0.1")
    sub.add_argument("--port", type=int, default=PORT)
    sub.add_argument("--home", type=Path, help="where everything is kept")
    text = "a folder of scenes that may be opened from the page"
    sub.add_argument("--scenes", type=Path, help=text)
    text = "a folder where frames are read and written from the page; else one in the home"
    sub.add_argument("--frames", type=Path, help=text)
    text = "a scheduler of the package distributed, whose workers may render frames"
    sub.add_argument("--scheduler", metavar="ADDRESS", default="", help=text)


def add_arguments(sub: ArgumentParser) -> None:
    """Add the arguments of the command."""
    text = "make the demo job of this size when there is none"
    sub.add_argument("--demo", choices=SIZES, help=text)
    add_address(sub)


def run(args: Arguments) -> None:
    """Serve until stopped."""
    from mill_lane.serve import serve
    from mill_lane.store.home import default_folder

    if args.scenes is not None and not args.scenes.is_dir():
        raise MillError(f"{args.scenes} is not a folder.", "Name a folder that holds scenes.")
    if args.frames is not None and not args.frames.is_dir():
        raise MillError(f"{args.frames} is not a folder.", "Make it first, or name another one.")
    home = args.home or default_folder()
    serve(home, args.host, args.port, args.scenes, args.demo, args.frames, args.scheduler)


SERVE = Command("serve", "Serve the application.", add_arguments, run, error_status=2)
