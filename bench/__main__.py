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
    "denoise",
    "first_pixels",
    "idle",
    "kill",
    "look",
    "memory",
    "open",
    "overhead",
    "page",
    "rays",
    "run",
    "schema",
    "start",
    "trace",
    "trim",
    "weigh",
)


def main() -> int:
    # The one that is asked for is imported alone: some take long, or warn.
    parser = argparse.ArgumentParser(prog="bench", add_help=False)
    parser.add_argument("name", choices=BENCHES)
    name = parser.parse_known_args()[0].name
    module = importlib.import_module(f"bench.{name}")
    parser = argparse.ArgumentParser(prog=f"bench {name}", description=module.__doc__)
    parser.add_argument("name")
    parser.add_argument("--json", action="store_true")
    for option, usual in getattr(module, "OPTIONS", {}).items():
        parser.add_argument(f"--{option}", type=int, default=usual)
    args = vars(parser.parse_args())
    as_json, run = args.pop("json"), module.run
    del args["name"]
    figures = run(**args)
    if as_json:
        print(json.dumps(figures))
    else:
        for name, value in figures.items():
            print(f"{name:<44} {value:.4g}" if isinstance(value, float) else f"{name:<44} {value}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
