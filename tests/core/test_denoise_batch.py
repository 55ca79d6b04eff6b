"""A folder of frames that is denoised: which of them are still to be done."""

from __future__ import annotations

import os
import tempfile
import unittest
from pathlib import Path

from mill_lane.core.denoise.batch import batch_of


class TestGoingOn(unittest.TestCase):
    def test_a_file_of_the_clocks_last_tick_is_done(self) -> None:
        """A file's time is that of the last tick, up to 10 ms before it was written (Linux at 100
        ticks a second).
        """
        began = 1.7e9
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            for n in range(1, 5):
                (folder / f"in.{n:04d}.exr").touch()
            for n, time in ((1, began - 0.01), (2, began - 1.0), (3, began + 5.0)):
                written = folder / f"out.{n:04d}.exr"
                written.touch()
                os.utime(written, (time, time))
            source, out = folder / "in.####.exr", folder / "out.####.exr"
            batch = batch_of(source, out, there="overwrite", since=began)
        self.assertEqual([f.number for f in batch.frames], [2, 4])


if __name__ == "__main__":
    unittest.main()
