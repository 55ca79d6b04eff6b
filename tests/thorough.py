"""Tests that only `./check --all` runs: they take minutes, and catch what shorter ones miss."""

from __future__ import annotations

import os
import unittest

ALL = "MILL_LANE_TESTS_ALL"
EVERYTHING = bool(os.environ.get(ALL))
thorough = unittest.skipUnless(EVERYTHING, "only in ./check --all")
