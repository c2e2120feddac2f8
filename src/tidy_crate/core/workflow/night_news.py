"""What others are told of a night: that it needs a person, gathered, and how it has ended."""

from __future__ import annotations

from tidy_crate.core.job.notify import News
from tidy_crate.core.workflow.night_standing import NightStanding, ShotStanding, ShotWord

# seconds for which shots that need a person are gathered into one message, and between two such messages
GATHER, BETWEEN = 60.0, 900.0
# lines of a message
MOST_LINES = 40

NEEDS_YOU = (ShotWord.PERSON, ShotWord.FAILED, ShotWord.LEFT_OUT)


class NightNews:
    """Says when there is something to tell. The seconds are those of a clock that only goes forward."""

    def __init__(self) -> None:
        self._told: set[tuple[str, str]] = set()
        self._first: float | None = None
        self._last = -BETWEEN

    def look(self, now: NightStanding, seconds: float) -> News | None:
        """Return the news of shots that need a person, None while there are none that were not told."""
        fresh = [one for one in now.shots if one.state in NEEDS_YOU and _mark(one) not in self._told]
        if not fresh:
            self._first = None
            return None
        if self._first is None:
            self._first = seconds
        if seconds - self._first < GATHER or seconds - self._last < BETWEEN:
            return None
        self._told |= {_mark(one) for one in fresh}
        self._last, self._first = seconds, None
        count = len(fresh)
        text = f"{now.title}: {count} shot{' needs' if count == 1 else 's need'} you"
        return News(job=now.title, kind="needs-you", text=text, details=tuple(map(_line, fresh[:MOST_LINES])))


def news_of_end(now: NightStanding) -> News:
    """Return how a night has ended."""
    done, waiting = now.count(ShotWord.DONE), [one for one in now.shots if one.state in NEEDS_YOU]
    text = f"{now.title}: {done} of {len(now.shots)} shots are done"
    if waiting:
        text += f", {len(waiting)} need{'s' if len(waiting) == 1 else ''} you"
    costs = ", ".join(f"{amount:.2f} {currency}" for currency, amount in now.billed.items())
    lines = ([f"billed: {costs}"] if costs else []) + [_line(one) for one in waiting[:MOST_LINES]]
    return News(job=now.title, kind="night-done" if now.done else "night-ended", text=text, details=tuple(lines))


def _line(one: ShotStanding) -> str:
    text = one.questions[0].text if one.questions else one.said
    return f"{one.shot}, {one.step or one.state}: {text}"


def _mark(one: ShotStanding) -> tuple[str, str]:
    return one.shot, f"{one.step} {one.said}"
