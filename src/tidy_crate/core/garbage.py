"""Going without the search for reference cycles, where very many objects are made and none form cycles."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def no_garbage_collection() -> Iterator[None]:
    """Reference cycles are not looked for while the block runs; with a large scene at hand that takes long each time.

    All other objects are freed as always.
    """
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()
