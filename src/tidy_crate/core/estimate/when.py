"""Points in time as people write them: `Fri 18:00`, `18:00`, `2026-12-01 09:00`, `+8h`."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import datetime, time, timedelta

from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.estimate.durations import parse_seconds

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_KNOWN = "write 'Fri 18:00', '18:00', 'tomorrow 9:00', '2026-12-01 09:00', '2026-12-01T09:00+01:00' or '+8h'"
_CLOCK = re.compile(r"(?:(today|tomorrow|[a-z]{3,9})\s+)?(\d{1,2}):(\d{2})", re.IGNORECASE)


def _here(at: datetime) -> datetime:
    """Return a wall-clock time of this place as a point in time: its offset from UTC on that day, not today's."""
    return at.replace(tzinfo=None).astimezone()


def parse_when(text: str, now: datetime, local: Callable[[datetime], datetime] = _here) -> datetime:
    """Read a point in time after `now`, which has a zone. Without a zone of its own it is in the local zone.

    local: makes a point in time of a wall-clock time, whatever the clocks are set to on that day.

    A day of the week or a clock time alone is the next one to come. Raises WrongUsage for what is no time or is past.
    """
    found = _parsed(text.strip(), now, local)
    if found is None:
        raise WrongUsage("not a point in time", repr(text[:60]), _KNOWN)
    if found <= now:
        remedy = f"name a later time; it is {now:%Y-%m-%d %H:%M %Z} now"
        raise WrongUsage("this time is past", f"{found:%Y-%m-%d %H:%M %Z}".strip(), remedy)
    return found


def _parsed(text: str, now: datetime, local: Callable[[datetime], datetime]) -> datetime | None:
    if text.startswith("+"):
        return now + timedelta(seconds=parse_seconds(text[1:]))
    match = _CLOCK.fullmatch(text)
    if match is not None:
        hours, minutes = int(match[2]), int(match[3])
        if hours > 23 or minutes > 59:
            return None
        day = (match[1] or "").lower()
        at = now.replace(hour=hours, minute=minutes, second=0, microsecond=0, fold=0)
        if day == "today":
            return local(at)
        if day == "tomorrow":
            return local(at + timedelta(days=1))
        if not day:
            return local(at) if local(at) > now else local(at + timedelta(days=1))
        if day[:3] not in DAYS:
            return None
        ahead = (DAYS.index(day[:3]) - now.weekday()) % 7
        found = at + timedelta(days=ahead)
        return local(found) if local(found) > now else local(found + timedelta(days=7))
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        return None
    if found.time() == time(0) and len(text) <= 10:
        # a day alone means its end
        found = found + timedelta(hours=23, minutes=59)
    try:
        return found if found.tzinfo is not None else local(found)
    except (OverflowError, ValueError):
        return None
