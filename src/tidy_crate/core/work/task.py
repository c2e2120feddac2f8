"""Tasks: the smallest pieces of work that are handed out, and how a job is cut into them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from fractions import Fraction
from typing import Annotated, Any, ClassVar, Self

from pydantic import ConfigDict, Field

from tidy_crate.core.asset.frames import format_frames, parse_frames
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.model import FrameNumber, Model
from tidy_crate.core.work.request import RenderRequest, Slug

# a task as plain values: they sort, and databases compare them
TaskKey = tuple[str, str, int, int, int]
# stands for "not split" in a key: databases take no two NULLs for alike
WHOLE = -1


@dataclass(frozen=True, slots=True)
class Task:
    """The identity of a task, everywhere: in the ledger, on the wire, in JSON.

    A slotted data class, since a job has a hundred thousand of them.
    """

    __pydantic_config__: ClassVar[ConfigDict] = ConfigDict(extra="forbid")

    request: Slug
    """Name of the render request."""
    frame: FrameNumber
    view: Annotated[str, Field(pattern=r"^([a-z0-9][a-z0-9_-]{0,39})?$")] = ""
    """Name of the camera or variant, empty where the request has none."""
    tile: Annotated[int, Field(ge=0, lt=2**31)] | None = None
    """Number of the tile, row by row from the top left, from 0; None for the whole picture."""
    share: Annotated[int, Field(ge=0, lt=2**31)] | None = None
    """Number of the share of the samples, from 0; None for all samples."""

    def __str__(self) -> str:
        parts = [self.request, *([self.view] if self.view else []), str(self.frame)]
        if self.tile is not None:
            parts.append(f"tile{self.tile}")
        if self.share is not None:
            parts.append(f"share{self.share}")
        return "/".join(parts)

    @property
    def key(self) -> TaskKey:
        """The task as the columns of a database have it. Keys put the tasks of a job in order."""
        return (
            self.request,
            self.view,
            self.frame,
            WHOLE if self.tile is None else self.tile,
            WHOLE if self.share is None else self.share,
        )

    @classmethod
    def of_key(cls, request: str, view: str, frame: int, tile: int, share: int) -> Task:
        """Return the task that has this key."""
        return cls(request, frame, view, None if tile == WHOLE else tile, None if share == WHOLE else share)


class TaskOutput(Model):
    """One output of one task, in JSON."""

    request: str
    view: str = ""
    frame: int
    tile: int | None = None
    share: int | None = None
    output: str

    @classmethod
    def of(cls, task: Task, output: str, **rest: Any) -> Self:
        """Return one for a task. rest: what the subclass adds."""
        return cls(
            request=task.request, view=task.view, frame=task.frame, tile=task.tile, share=task.share, output=output,
            **rest,
        )  # fmt: skip

    def task(self) -> Task:
        """The task."""
        return Task(self.request, self.frame, self.view, self.tile, self.share)


class TaskState(StrEnum):
    """State of a task."""

    WAITING = "waiting"
    RENDERING = "rendering"
    DONE = "done"
    FAILED = "failed"
    CANCELLED = "cancelled"

    @property
    def ended(self) -> bool:
        """Return whether nothing more happens to it by itself."""
        return self in (TaskState.DONE, TaskState.FAILED, TaskState.CANCELLED)


class TaskRange(Model):
    """Many tasks of one request in few words: every combination of these views, frames, tiles and shares."""

    request: Slug
    frames: str
    """A frame list, in the order in which the frames are to be rendered."""
    views: tuple[str, ...] = ()
    """Names of views; empty for all of the request."""
    tiles: str = ""
    """A list of tile numbers, written like frames; empty for all of the request."""
    shares: str = ""
    """A list of share numbers, written like frames; empty for all of the request."""

    def count(self, request: RenderRequest) -> int:
        """Return how many tasks that is."""
        tiles = len(_split(self.tiles, request.tile_count))
        shares = len(_split(self.shares, request.shares))
        return len(parse_frames(self.frames)) * len(self.views or request.view_names) * tiles * shares


def whole(requests: Iterable[RenderRequest]) -> tuple[TaskRange, ...]:
    """Return all tasks of the requests, a range each."""
    return tuple(TaskRange(request=request.name, frames=request.frames) for request in requests)


def tasks_of(ranges: Iterable[TaskRange], requests: Iterable[RenderRequest]) -> Iterator[Task]:
    """Yield the tasks that ranges stand for: view by view, frame by frame, tile by tile, share by share.

    Raises WrongUsage on a request, view, frame, tile or share that the requests do not have.
    """
    by_name = {request.name: request for request in requests}
    for one in ranges:
        request = by_name.get(one.request)
        if request is None:
            raise WrongUsage("the tasks name a request that does not exist", one.request)
        frames, known = parse_frames(one.frames), set(request.numbers())
        strange = next((frame for frame in frames if frame not in known), None)
        if strange is not None:
            raise WrongUsage("the tasks name a frame that the request does not have", strange, request.frames)
        for view in one.views:
            request.view(view)
        tiles, shares = _split(one.tiles, request.tile_count), _split(one.shares, request.shares)
        for view in one.views or request.view_names:
            for frame in frames:
                for tile in tiles:
                    for share in shares:
                        yield Task(request.name, frame, view, tile, share)


def _split(text: str, count: int) -> Sequence[int | None]:
    """Return the numbers of tiles or shares; one None where the picture is not split."""
    if count == 1:
        if text not in ("", "0"):
            raise WrongUsage("the picture is not split, so it has no such part", text)
        return (None,)
    numbers = parse_frames(text) if text else tuple(range(count))
    if any(number < 0 or number >= count for number in numbers):
        raise WrongUsage(f"the picture is split into {count} parts, numbered from 0", text)
    return numbers


def ranges_of(tasks: Iterable[Task]) -> tuple[TaskRange, ...]:
    """Return tasks as ranges. Frames keep their order; views, tiles and shares that go alike become one range."""
    frames: dict[tuple[str, str, int | None, int | None], list[int]] = {}
    for task in tasks:
        frames.setdefault((task.request, task.view, task.tile, task.share), []).append(task.frame)
    # one picture after the other: first join the shares that have the same frames, then the tiles, then the views
    rows = [
        (request, (view,), _numbers(tile), _numbers(share), tuple(own))
        for (request, view, tile, share), own in frames.items()
    ]
    for part in (3, 2, 1):
        joined: dict[tuple[object, ...], list[object]] = {}
        for row in rows:
            joined.setdefault((*row[:part], *row[part + 1 :]), []).extend(row[part])
        rows = [(*key[:part], tuple(values), *key[part:]) for key, values in joined.items()]  # type: ignore[misc]
    return tuple(
        TaskRange(
            request=request,
            frames=format_frames(own),
            views=tuple(view for view in views if view),
            tiles=format_frames(tiles),
            shares=format_frames(shares),
        )
        for request, views, tiles, shares, own in rows
    )


def _numbers(part: int | None) -> tuple[int, ...]:
    return () if part is None else (part,)


def spread(frames: Sequence[int], step: int) -> tuple[int, ...]:
    """Return every `step`-th frame first, then every `step`-th of those left, and so on: early pictures of it all.

    Raises WrongUsage for a step below 1.
    """
    if step < 1:
        raise WrongUsage("the step between frames is 1 or more", step)
    return tuple(frame for start in range(min(step, len(frames))) for frame in frames[start::step])


def first(frames: Sequence[int], wanted: Iterable[int]) -> tuple[int, ...]:
    """Return the same frames with those of `wanted` in front, in the order in which they are wanted."""
    known = set(frames)
    ahead = tuple(dict.fromkeys(frame for frame in wanted if frame in known))
    taken = set(ahead)
    return ahead + tuple(frame for frame in frames if frame not in taken)


def slices(tasks: Sequence[Task], weights: Mapping[str, Fraction | int]) -> dict[str, tuple[Task, ...]]:
    """Return the tasks shared out by weight, each task exactly once, as stretches in their order.

    Sizes are rounded by largest remainder, so that they add up to all tasks. Raises WrongUsage on weights that are
    negative or all zero.
    """
    total = sum((Fraction(weight) for weight in weights.values()), Fraction(0))
    if total <= 0 or any(weight < 0 for weight in weights.values()):
        raise WrongUsage("the weights of the shares are positive numbers", dict(weights))
    exact = {name: Fraction(weight) * len(tasks) / total for name, weight in weights.items()}
    sizes = {name: int(size) for name, size in exact.items()}
    left = len(tasks) - sum(sizes.values())
    for name in sorted(exact, key=lambda name: sizes[name] - exact[name])[:left]:
        sizes[name] += 1
    found, at = {}, 0
    for name, size in sizes.items():
        found[name] = tuple(tasks[at : at + size])
        at += size
    return found
