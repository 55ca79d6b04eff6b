"""Run a bench: `python -m bench NAME [--json]`; docs/performance.md has figures and the machine."""

from __future__ import annotations

import argparse
import json
import sys

from bench import build, memory, overhead, page, rays, trace, weigh

BENCHES = {
    "build": build.run,
    "memory": memory.run,
    "overhead": overhead.run,
    "page": page.run,
    "rays": rays.run,
    "trace": trace.run,
    "weigh": weigh.run,
}


def main() -> int:
    parser = argparse.ArgumentParser(prog="bench")
    parser.add_argument("name", choices=sorted(BENCHES))
    parser.add_argument("--json", action="store_true")
    args = parser.parse_args()
    figures = BENCHES[args.name]()
    if args.json:
        print(json.dumps(figures))
    else:
        for name, value in figures.items():
            print(f"{name:<44} {value:.4g}" if isinstance(value, float) else f"{name:<44} {value}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
