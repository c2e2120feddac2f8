"""Results of a bake that is under way, frame by frame on the disk, so that a killed bake goes on where it stopped."""

from __future__ import annotations

import json
import shutil
import time
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
from pxr import Gf, Sdf

from tidy_crate.core.files import write_whole
from tidy_crate.core.scene.formats.usd.simulation.interface import Array, Pose, State, Value

# a bake that is killed solves at most so many seconds' work again
SECONDS_BETWEEN_STATES = 0.25
_ABOUT = "about"
_STATE = "state"


class Unfinished:
    """The folder of one bake under way.

    key: names everything it depends on; samples of another key are thrown away. seconds_between_states: how often the
    solver's state is kept. write: opens a file for writing, see `files.write_whole`.
    """

    def __init__(
        self,
        folder: Path,
        key: str,
        seconds_between_states: float = SECONDS_BETWEEN_STATES,
        write: Callable[[Path], AbstractContextManager[BinaryIO]] = write_whole,
    ) -> None:
        self.folder = folder
        self._every = seconds_between_states
        self._write = write
        self._kept = time.monotonic()
        self._key = folder / "key.txt"
        try:
            same = self._key.read_text(encoding="utf-8") == key
        except OSError:
            same = False
        if not same:
            shutil.rmtree(folder, ignore_errors=True)
            folder.mkdir(parents=True, exist_ok=True)
            with self._write(self._key) as stream:
                stream.write(key.encode())

    def done(self) -> int:
        """Return how many samples are there, without a gap from the first."""
        count = 0
        while self._sample(count).is_file():
            count += 1
        return count

    def keep(self, index: int, values: list[Value], state: Callable[[], State]) -> None:
        """Keep one sample, and now and then the state to go on from after it."""
        arrays: dict[str, Any] = {f"v{at}": _numbers(value) for at, value in enumerate(values)}
        about = json.dumps([_about(value) for value in values]).encode()
        arrays[_ABOUT] = np.frombuffer(about, dtype=np.uint8)
        with self._write(self._sample(index)) as stream:
            np.savez(stream, **arrays)
        if time.monotonic() - self._kept > self._every:
            held: dict[str, Any] = {f"s.{name}": data for name, data in state().items()}
            with self._write(self.folder / f"{_STATE}.npz") as stream:
                np.savez(stream, index=np.array(index), **held)
            self._kept = time.monotonic()

    def last_state(self) -> tuple[int, State] | None:
        """The sample that the kept state belongs to, and the state; None when there is none that can be used."""
        try:
            with np.load(self.folder / f"{_STATE}.npz", allow_pickle=False) as found:
                index = int(found["index"])
                state = {name.removeprefix("s."): found[name] for name in found.files if name.startswith("s.")}
        except (OSError, ValueError, KeyError):
            return None
        return index, state

    def samples(self, count: int) -> Iterator[list[Value]]:
        """All samples in order."""
        for index in range(count):
            with np.load(self._sample(index), allow_pickle=False) as found:
                about = json.loads(bytes(found[_ABOUT]))
                yield [_value(one, found[f"v{at}"]) for at, one in enumerate(about)]

    def last_bytes(self) -> int:
        """The size of the last sample: what grows in number is largest then."""
        last = max(self.folder.glob("[0-9]*.npz"), default=None)
        return last.stat().st_size if last is not None else 0

    def last_raw_bytes(self) -> int:
        """The size of the numbers in the last sample."""
        last = self.done() - 1
        with np.load(self._sample(last), allow_pickle=False) as found:
            return sum(found[name].nbytes for name in found.files if name.startswith("v"))

    def throw_away(self) -> None:
        """Remove it."""
        shutil.rmtree(self.folder, ignore_errors=True)

    def _sample(self, index: int) -> Path:
        return self.folder / f"{index:07d}.npz"


def _numbers(value: Value) -> np.ndarray:
    return np.array(value.matrix) if isinstance(value, Pose) else value.data


def _about(value: Value) -> list[object]:
    return [value.prim] if isinstance(value, Pose) else [value.prim, value.attribute, str(value.type), value.varying]


def _value(about: list, data: np.ndarray) -> Value:  # type: ignore[type-arg]
    if len(about) == 1:
        return Pose(about[0], Gf.Matrix4d(data.tolist()))
    prim, attribute, kind, varying = about
    return Array(prim, attribute, Sdf.ValueTypeNames.Find(kind), data, varying)
