"""Saying that a line is silent, while whoever uses it waits."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager, nullcontext

# seconds without a byte after which it is told, so that a dead line is known within ten
SILENCE = 8.0
LOOK = 0.5
# looks without anybody who waits, after which the thread that looks ends
IDLE = 20


class Watch:
    """Tells once when somebody has waited for a line for too long, and once when it goes on."""

    def __init__(self, whom: str, tell: Callable[[str], None], silence: float | None = None) -> None:
        """whom: what is waited for, in the words of the message. silence: seconds; as usual when None."""
        self._whom, self._tell = whom, tell
        self._silence = SILENCE if silence is None else silence
        self._since: dict[object, float] = {}
        self._told = False
        self._lock = threading.Lock()
        self._thread: threading.Thread | None = None

    @contextmanager
    def waiting(self) -> Iterator[None]:
        """Wait for the line in this block."""
        key = object()
        with self._lock:
            self._since[key] = time.monotonic()
            if self._thread is None:
                self._thread = threading.Thread(target=self._look, daemon=True)
                self._thread.start()
        try:
            yield
        finally:
            with self._lock:
                self._since.pop(key, None)
                told, self._told = self._told, self._told and bool(self._since)
            if told and not self._told:
                self._tell(f"{self._whom}: it goes on")

    def moved(self) -> None:
        """Note that something has moved for whoever waits."""
        now = time.monotonic()
        with self._lock:
            for key in self._since:
                self._since[key] = now

    def _look(self) -> None:
        idle = 0
        while idle < IDLE:
            time.sleep(LOOK)
            with self._lock:
                idle = 0 if self._since else idle + 1
                if idle == IDLE:
                    self._thread = None
                longest = time.monotonic() - min(self._since.values(), default=time.monotonic())
                tells = longest > self._silence and not self._told
                self._told = self._told or tells
            if tells:
                self._tell(f"{self._whom}: nothing has come or gone for {longest:.0f} s; still waiting")


def waiting(watch: Watch | None) -> AbstractContextManager[None]:
    """Wait for a line in this block, where somebody is told of it."""
    return watch.waiting() if watch is not None else nullcontext()


def watch_for(whom: str, token: object) -> Watch | None:
    """Return a watch where the means of signing in say who is told, see sign_in.Keys; None where they do not."""
    tell = getattr(token, "tell", None)
    return Watch(whom, tell) if tell is not None else None
