"""`mill-lane check`: what could spoil a range of frames."""

from __future__ import annotations

import sys
from pathlib import Path

from mill_lane.cli.command import Arguments, Command, Result
from mill_lane.cli.ranges import add_arguments, opened
from mill_lane.core.words import plural


def run(args: Arguments) -> Result:
    """Look at what could spoil a range, without rendering it."""
    from datetime import datetime

    from mill_lane.core.plan.checks import Asked, check_range
    from mill_lane.core.plan.preflight import Shot

    got, *others = opened(args)
    way, sheet = got.way, got.sheet
    frames = sheet.listed(got.scene.frames)
    hidden = tuple(
        got.scene.nodes[node].name
        for node, _ in got.scene.instances
        if "camera" in got.scene.nodes[node].unseen_by
    )
    found = check_range(
        Asked(
            Shot(way.analysis, way.recipe, way.device),
            sheet,
            args.out or Path.cwd(),
            way=way,
            hidden=hidden,
            now=datetime.now(),
            others=tuple(other.sheet for other in others),
        )
    )
    if not args.json:
        through = f", through {plural(1 + len(others), 'camera')}" if others else ""
        words = f"{plural(len(frames), 'frame')}, {frames[0]} to {frames[-1]} in their order"
        print(words + through)
        for result in found:
            print(f"{result.level:8} {result.text}")
    told = {
        level: [{"code": r.code, "text": r.text} for r in found if r.level == level]
        for level in ("error", "warning", "ok")
    }
    if told["error"] and not args.json:
        print(f"{len(told['error'])} to be mended first", file=sys.stderr)
    return {
        "frames": len(frames),
        "errors": told["error"],
        "warnings": told["warning"],
        "in_order": told["ok"],
        "status": 1 if told["error"] else 0,
    }


CHECK = Command("check", "Look at what could spoil a range of frames.", add_arguments, run)
