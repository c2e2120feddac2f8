"""Points in time as people write them: `Fri 18:00`, `18:00`, `2026-12-01 09:00`, `+8h`."""

from __future__ import annotations

import re
from datetime import datetime, time, timedelta

from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.estimate.durations import parse_seconds

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
_KNOWN = "write 'Fri 18:00', '18:00', 'tomorrow 9:00', '2026-12-01 09:00', '2026-12-01T09:00+01:00' or '+8h'"
_CLOCK = re.compile(r"(?:(today|tomorrow|[a-z]{3,9})\s+)?(\d{1,2}):(\d{2})", re.IGNORECASE)


def parse_when(text: str, now: datetime) -> datetime:
    """Read a point in time after `now`, which has a zone. Without a zone of its own it is in the zone of `now`.

    A day of the week or a clock time alone is the next one to come. Raises WrongUsage for what is no time or is past.
    """
    found = _parsed(text.strip(), now)
    if found is None:
        raise WrongUsage("not a point in time", repr(text[:60]), _KNOWN)
    if found <= now:
        remedy = f"name a later time; it is {now:%Y-%m-%d %H:%M %Z} now"
        raise WrongUsage("this time is past", f"{found:%Y-%m-%d %H:%M %Z}".strip(), remedy)
    return found


def _parsed(text: str, now: datetime) -> datetime | None:
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
            return at
        if day == "tomorrow":
            return at + timedelta(days=1)
        if not day:
            return at if at > now else at + timedelta(days=1)
        if day[:3] not in DAYS:
            return None
        ahead = (DAYS.index(day[:3]) - now.weekday()) % 7
        found = at + timedelta(days=ahead)
        return found if found > now else found + timedelta(days=7)
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        return None
    if found.time() == time(0) and len(text) <= 10:
        # a day alone means its end
        found = found + timedelta(hours=23, minutes=59)
    try:
        return found if found.tzinfo is not None else found.replace(tzinfo=now.tzinfo)
    except (OverflowError, ValueError):
        return None
