"""The look of each pass beside the colour: some hundred numbers by which it is compared with the frames beside it.

A pass is looked at as what it is. Whole numbers name objects, and no mean of two of them says anything: the shares of
the picture that each has are kept. All others are measured in stops above a floor, with their sign, so that a depth
that is off by a factor differs by the same amount near and far.
"""

from __future__ import annotations

import base64
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from tidy_crate.core.picture.block import Block, is_ids
from tidy_crate.core.picture.look import means, stride

# rows and columns of cells
CELLS = (9, 16)
# numbers of this size count as this; from FAR on it is a place that no ray came back from
FLOOR, FAR = 0.01, 1e9
# pixels of a pass that are looked at, about
SAMPLES = 25_000
# objects by whose shares a frame is told from another: the largest ones
OBJECTS = 64
# passes that are looked at, and numbers of a pixel of one
MOST_PASSES, MOST_CHANNELS = 64, 4


@dataclass(frozen=True)
class PassLook:
    """The numbers that are kept of one pass of a frame."""

    values: np.ndarray
    """Shape (*CELLS, channels): mean in stops, with the sign of the number. Empty for objects."""
    shares: Mapping[int, float] = field(default_factory=dict)
    """By number of an object, the share of the picture that it has. Empty for all others."""

    def to_json(self) -> dict[str, Any]:
        """Return it as what JSON can carry."""
        if self.shares:
            return {"shares": [[number, round(share, 6)] for number, share in self.shares.items()]}
        values = self.values.astype(np.float16)
        return {"shape": values.shape, "values": base64.b64encode(values.tobytes()).decode()}

    @classmethod
    def from_json(cls, said: Mapping[str, Any]) -> PassLook:
        """Return what `to_json` wrote."""
        if "shares" in said:
            return cls(np.zeros((0, 0, 0), np.float32), {int(number): float(share) for number, share in said["shares"]})
        # as it is written: some of it is kept of every frame
        return cls(np.frombuffer(base64.b64decode(said["values"]), np.float16).reshape(said["shape"]))


class PassReader:
    """Gathers pixels of the passes of a frame, block by block.

    shown: the channels of the picture itself, which are looked at more closely elsewhere.
    """

    def __init__(self, block: Block, shown: Iterable[str]) -> None:
        self._step = stride(block.width, block.height, SAMPLES)
        rows, columns = -(-block.height // self._step), -(-block.width // self._step)
        colour = set(shown)
        self._layers: dict[str, list[str]] = {}
        if rows >= CELLS[0] and columns >= CELLS[1]:
            for name in block.channels:
                if name not in colour and block.channels[name].shape[1:] == (block.width,):
                    self._layers.setdefault(layer_of(name), []).append(name)
        self._layers = {layer: names[:MOST_CHANNELS] for layer, names in list(self._layers.items())[:MOST_PASSES]}
        self._planes = {
            name: np.zeros((rows, columns), block.channels[name].dtype)
            for names in self._layers.values()
            for name in names
        }

    def add(self, block: Block) -> None:
        """Take the next lines."""
        offset = -block.first % self._step
        at = (block.first + offset) // self._step
        for name, plane in self._planes.items():
            own = block.channels.get(name)
            if own is not None:
                own = own[offset :: self._step, :: self._step]
                plane[at : at + len(own)] = own

    def looks(self) -> dict[str, PassLook]:
        """Return the look of each pass, by its name."""
        found = {}
        for layer, names in self._layers.items():
            planes = [self._planes[name] for name in names]
            if all(map(is_ids, planes)):
                found[layer] = _of_objects(planes[0])
            else:
                found[layer] = PassLook(
                    np.stack([means(_stops(plane), CELLS) for plane in planes], axis=-1).astype(np.float32)
                )
        self._planes = {}
        return found


def layer_of(channel: str) -> str:
    """Return the pass that a channel belongs to.

    >>> layer_of("depth.Z"), layer_of("Z"), layer_of("light.key.R")
    ('depth', 'Z', 'light.key')
    """
    return channel.rpartition(".")[0] or channel


def _of_objects(plane: np.ndarray) -> PassLook:
    numbers, counts = np.unique(plane, return_counts=True)
    largest = np.argsort(-counts, kind="stable")[:OBJECTS]
    shares = {int(numbers[at]): float(counts[at] / plane.size) for at in largest}
    return PassLook(np.zeros((0, 0, 0), np.float32), shares)


def _stops(plane: np.ndarray) -> np.ndarray:
    numbers = plane.astype(np.float32)
    # what is no number is told of elsewhere
    np.nan_to_num(numbers, copy=False, nan=0.0, posinf=FAR, neginf=-FAR)
    np.clip(numbers, -FAR, FAR, out=numbers)
    return np.asarray(np.sign(numbers) * np.log2(1 + np.abs(numbers) / FLOOR), np.float32)
