"""How long work says that it will take: of each phase apart, and nothing before it is known."""

from __future__ import annotations

import unittest
from typing import Any
from unittest import mock

from mill_lane.work import kept_scene
from mill_lane.work.kinds.base import Unheard
from mill_lane.work.stepping import Piece, Steps


class TestTimeLeft(unittest.TestCase):
    def test_while_loading(self) -> None:
        """A thousandth in a second and a half is no pace: it was told as 25 minutes."""
        report = Unheard()
        with mock.patch.object(kept_scene, "time") as clock:
            clock.monotonic.return_value = 0.0
            tell = kept_scene._loading(report)
            for seconds, share, left in ((1.5, 0.001, None), (0.5, 0.4, None), (6.0, 0.25, 18.0)):
                clock.monotonic.return_value = seconds
                tell(share, "decoding")
                self.assertEqual(report.live.get("left"), left)
                self.assertEqual(report.live["phase"], "loading")

    def test_while_pieces_are_rendered(self) -> None:
        """The third of four strips, half done in 10 s: half of it and one more are left."""
        session: Any = mock.Mock(seconds=10.0, share=0.5)
        request: Any = mock.Mock(folder=mock.MagicMock(), checkpoint_seconds=1.0)
        for piece, left in ((Piece(), 10.0), (Piece(2, 4), 30.0), (Piece(3, 4), 10.0)):
            session.clock.return_value = 0.0
            steps = Steps(session, Unheard(), request, piece)
            self.assertAlmostEqual(steps._left() or 0.0, left)
        session.share = 0.001
        self.assertIsNone(Steps(session, Unheard(), request, Piece())._left())
