"""Renders one scene again and again: a number of threads comes in, seconds by the clock go out."""

from __future__ import annotations

import json
import sys

from bench.real_scenes import held
from bench.replay import traced


def main() -> None:
    loaded = held(sys.argv[1])
    for line in sys.stdin:
        print(json.dumps({"seconds": traced(loaded, int(line))[1]}), flush=True)


if __name__ == "__main__":
    main()
