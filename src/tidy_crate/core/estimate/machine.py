"""The machine that timings were measured on."""

from __future__ import annotations

import hashlib
import os
import platform

import psutil

from tidy_crate.core.model import Model


class ProbeMachine(Model):
    """A machine, as far as timings depend on it."""

    id: str = ""
    """A digest of its name and hardware; empty where it is not known."""
    system: str = ""
    processor: str = ""
    cores: int = 0
    memory_bytes: int = 0
    """Of all programs together; 0 where it is not known."""


def this_machine() -> ProbeMachine:
    """Describe the machine that this process runs on."""
    processor = platform.processor() or platform.machine()
    facts = (platform.node(), platform.system(), processor, os.cpu_count())
    return ProbeMachine(
        id=hashlib.blake2b(repr(facts).encode(errors="replace"), digest_size=8).hexdigest(),
        system=platform.system(),
        processor=processor,
        cores=os.cpu_count() or 0,
        memory_bytes=int(psutil.virtual_memory().total),
    )
