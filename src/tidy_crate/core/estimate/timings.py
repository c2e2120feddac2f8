"""Timings: seconds of single frames, wherever they come from, on one machine."""

from __future__ import annotations

from dataclasses import dataclass, field

# of timings that say nothing about a real renderer
PRACTICE = "practice"


@dataclass(frozen=True)
class FrameTiming:
    """Seconds of one frame without loading the scene."""

    request: str
    """Empty where it counts for every request."""
    frame: int
    seconds: float
    width: int | None = None
    """Pixels; None for the size that is asked for."""
    height: int | None = None
    samples: int | None = None
    """Samples per pixel; None for as many as are asked for."""
    memory_bytes: int | None = None


@dataclass(frozen=True)
class Timings:
    """Known times of a crate's frames on one machine."""

    frames: tuple[FrameTiming, ...]
    load_seconds: float | None
    """To start the renderer and load the scene, once per batch; None while unknown."""
    basis: str
    """`measured` here; `practice`: by the practice renderer; `typed`, `table`; `job`: an earlier job's."""
    source: str = ""
    """Their source, in words."""
    noise_target: bool = False
    """True if a frame ends at a noise target: more samples allowed do not make it longer."""
    home_bytes: dict[str, float] = field(default_factory=dict)
    """By request, bytes that one frame's files take at the size that is asked for; empty while unknown."""
    score: float | None = None
    """Score of the machine that they are of, where it is not this one."""
    warning: str = ""
    """Why they may be too long, in words."""
    views: dict[tuple[str, str], float] = field(default_factory=dict)
    """By request and view, how many times as long a frame takes as in the first view; only those that were timed."""

    @property
    def memory_bytes(self) -> int | None:
        """The most memory that a frame took; None while unknown."""
        return max((one.memory_bytes for one in self.frames if one.memory_bytes), default=None)

    def of(self, request: str) -> tuple[FrameTiming, ...]:
        """Return those that count for a request."""
        return tuple(one for one in self.frames if one.request in ("", request))
