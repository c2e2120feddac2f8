"""Going without the search for circles of objects, where very many are made and none are circles."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def no_garbage_collection() -> Iterator[None]:
    """Objects in circles are not looked for while the block runs; with a large scene at hand that takes long each time.

    Everything else is let go of as always.
    """
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()
