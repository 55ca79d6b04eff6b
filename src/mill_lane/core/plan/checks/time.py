"""Checks of the time: how long the range takes, and whether it is done when it has to be."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta

from mill_lane.core.plan.checks.model import Asked, Found
from mill_lane.core.words import plural


def time(asked: Asked) -> Iterable[Found]:
    """How long it takes, where anything tells."""
    known = expected(asked)
    if known is None:
        text = "How long it takes is not known: rehearse it, or run a trial of this scene version."
        yield Found("time", "warning", text, "trials")
        return
    seconds, margin, source = known
    unit, size = ("hours", 3600) if seconds >= 3600 else ("minutes", 60)
    about = f"About {seconds / size:.1f} ± {margin / size:.1f} {unit}"
    yield Found("time", "ok", f"{about} for {plural(asked.shots, 'frame')}, from {source}.")


def deadline(asked: Asked) -> Iterable[Found]:
    """Whether it is done by the time that the sheet names."""
    if not asked.sheet.ready_by or asked.now is None:
        return
    due = next_time(asked.sheet.ready_by, asked.now)
    known = expected(asked)
    if known is None:
        text = f"Whether it is done by {asked.sheet.ready_by} is not known."
        yield Found("deadline", "warning", text, "trials")
        return
    seconds, margin, _ = known
    left = (due - asked.now).total_seconds()
    hours = f"{left / 3600:.1f} hours are left until {asked.sheet.ready_by}"
    if seconds - margin > left:
        text = f"It will not be done in time: {hours}. Fewer samples, or a smaller picture."
        yield Found("deadline", "warning", text, "trials")
    elif seconds + margin > left:
        text = f"It may not be done in time: {hours}, within the margin."
        yield Found("deadline", "warning", text, "trials")
    else:
        yield Found("deadline", "ok", f"In time: {hours}.")


def expected(asked: Asked) -> tuple[float, float, str] | None:
    """Seconds for all frames, the half width of their 90 % interval, and what tells; if anything
    does.
    """
    if asked.every is not None:
        times = 1 + len(asked.others)
        return asked.every.seconds * times, asked.every.margin * times, "a rehearsal"
    if asked.frame is not None:
        count = asked.shots
        return asked.frame.seconds * count, asked.frame.margin * count, asked.frame.source
    return None


def next_time(clock: str, now: datetime) -> datetime:
    """The next moment at which a clock shows HH:MM."""
    hour, minute = (int(x) for x in clock.split(":"))
    due = now.replace(hour=hour, minute=minute, second=0, microsecond=0)
    return due if due > now else due + timedelta(days=1)
