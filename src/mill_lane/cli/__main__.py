"""`python -m mill_lane.cli`."""

from __future__ import annotations

import sys

from mill_lane.cli.main import main

if __name__ == "__main__":
    sys.exit(main())
