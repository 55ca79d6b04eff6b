"""`python -m bench memory|weigh|rays|page [--json]`: see docs/performance.md for figures and the machine."""

from __future__ import annotations

import argparse
import json
import sys

from bench import memory, page, rays, weigh

BENCHES = {"memory": memory.run, "weigh": weigh.run, "rays": rays.run, "page": page.run}


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
