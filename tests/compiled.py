"""Compile what tests render and read with, once: `python -m tests.compiled`."""

from mill_lane.core.progress import silent
from mill_lane.work.warm import compile_readers, prepare

if __name__ == "__main__":
    prepare(silent, behind=0)
    compile_readers()
