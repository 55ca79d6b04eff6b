"""Run a bench: `python -m bench NAME [--json …]`; figures are in docs/performance.md."""

from __future__ import annotations

import argparse
import importlib
import json
import sys

# Each a module here with `run`, whose options, all whole numbers, are in its OPTIONS.
BENCHES = (
    "build",
    "clients",
    "damage",
    "kill",
    "memory",
    "overhead",
    "page",
    "rays",
    "schema",
    "trace",
    "weigh",
)


def main() -> int:
    parser = argparse.ArgumentParser(prog="bench")
    benches = parser.add_subparsers(required=True, metavar="NAME")
    for name in BENCHES:
        module = importlib.import_module(f"bench.{name}")
        sub = benches.add_parser(name, help=str(module.__doc__).splitlines()[0])
        sub.add_argument("--json", action="store_true")
        sub.set_defaults(run=module.run)
        for option, usual in getattr(module, "OPTIONS", {}).items():
            sub.add_argument(f"--{option}", type=int, default=usual)
    args = vars(parser.parse_args())
    as_json, run = args.pop("json"), args.pop("run")
    figures = run(**args)
    if as_json:
        print(json.dumps(figures))
    else:
        for name, value in figures.items():
            print(f"{name:<44} {value:.4g}" if isinstance(value, float) else f"{name:<44} {value}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
