"""Following a job through a time in which its farm does not answer."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass

from tidy_crate.core.errors import FarmBusy

# seconds: of an outage that is waited out, and between two tries
LONGEST = 1800.0
PAUSE, LONGEST_PAUSE = 5.0, 300.0


@dataclass
class Outage:
    """Waits while a farm is away."""

    tell: Callable[[str], None]
    """Called with the trouble and the time of the next try."""
    sleep: Callable[[float], None] = time.sleep
    clock: Callable[[], float] = time.monotonic
    _since: float | None = None

    def wait(self, error: FarmBusy) -> None:
        """Wait until the next try. Raises the error itself when the farm has been away for too long."""
        now = self.clock()
        self._since = now if self._since is None else self._since
        pause = min(LONGEST_PAUSE, PAUSE if error.after is None else max(PAUSE, error.after))
        if now - self._since + pause > LONGEST:
            raise error
        self.tell(f"{error.where}: {error.what}; trying again in {pause:.0f} s")
        self.sleep(pause)

    def over(self) -> None:
        """Note that the farm answers."""
        self._since = None


def say_nothing(_: str) -> None:
    """Ignore what is told of an outage."""
