"""`mill-lane demo`: the made-up scene, to a file or served."""

from __future__ import annotations

import time
from argparse import ArgumentParser
from pathlib import Path

from mill_lane.cli import serve
from mill_lane.cli.command import Arguments, Command, Result, telling


def add_arguments(sub: ArgumentParser) -> None:
    """Add the arguments of the command."""
    sub.add_argument("--out", type=Path, help="write the scene to this GLB instead of serving it")
    sub.add_argument("--size", choices=serve.SIZES, default="full")
    serve.add_address(sub)


def run(args: Arguments) -> Result | None:
    """Build the demo scene, or serve it."""
    if args.out is None:
        args.demo = args.size
        serve.run(args)
        return None
    from mill_lane.demo.make import make_demo

    start = time.perf_counter()
    make_demo(args.out, args.size, progress=telling(args))
    return {
        "out": str(args.out),
        "seconds": time.perf_counter() - start,
        "file_bytes": args.out.stat().st_size,
    }


DEMO = Command("demo", "Build the demo scene, or serve it.", add_arguments, run)
