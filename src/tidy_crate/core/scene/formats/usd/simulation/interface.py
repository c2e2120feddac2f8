"""Interface of a kind of simulation.

A new one is a sibling of `jiggle_points`, registered by the entry point `tidy_crate.usd_simulations`.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray
from pxr import Gf, Sdf, Usd

# everything is solved in quarters of a frame: what it follows may be keyed between frames
SUBSTEPS = 4


@dataclass(frozen=True)
class Pose:
    """The whole local matrix of a prim."""

    prim: str
    matrix: Gf.Matrix4d


@dataclass(frozen=True)
class Array:
    """The value of an array attribute."""

    prim: str
    attribute: str
    type: Sdf.ValueTypeName
    data: NDArray[Any]
    varying: bool = False
    """True if its length may change from frame to frame."""


Value = Pose | Array
State = dict[str, NDArray[Any]]


@dataclass(frozen=True)
class Simulation:
    """One simulation in a stage."""

    path: str
    """The prim that stands for it, which is its name."""
    kind: str
    start: float
    """Time code at which it begins, at rest."""
    live: bool
    cache: str | None
    targets: tuple[str, ...]
    """Prims that it names."""
    moved_by: tuple[str, ...]
    """All prims whose motion it takes up."""
    prims: tuple[str, ...]
    """Prims whose values it sets."""
    why: str
    """The error that it causes on a farm."""
    trouble: tuple[str, ...] = ()
    """Parts that cannot be baked here, by prim."""
    refused: tuple[str, ...] = ()
    """Why it cannot be baked here at all, by prim: solved, it would come out wrong."""
    bodies: tuple[str, ...] = ()
    """Prims that a host would solve as part of it, those that are not solved here among them."""


class Solver(Protocol):
    """A running simulation on one stage."""

    def begin(self, time: float) -> None:
        """Start at rest at a time code."""

    def step(self, before: float, after: float) -> None:
        """Carry on over at most a quarter of a frame, in time codes."""

    def values(self, time: float) -> list[Value]:
        """Return what it sets in the scene at the time code it has come to."""

    def state(self) -> State:
        """All that is needed to go on from here."""

    def restore(self, state: Mapping[str, NDArray[Any]]) -> None:
        """Go on from a state."""

    def trouble(self) -> tuple[str, ...]:
        """Return what of the simulation is left out or solved otherwise than the scene asks for, by prim."""

    def sample_bytes(self) -> int:
        """Return how large one sample of the result is, at most."""


class SimulationKind(Protocol):
    """One kind."""

    name: str

    def find(self, stage: Usd.Stage) -> list[Simulation]:
        """All of this kind in a stage, in the order of the scene."""

    def inputs(self, stage: Usd.Stage, simulation: Simulation, end: float) -> Iterator[bytes]:
        """All that its result depends on from its start to a time code, as composed."""

    def solver(self, stage: Usd.Stage, simulation: Simulation) -> Solver:
        """A solver on this stage. Raises UnreadableInput when the simulation makes no sense."""

    def switched_off(self, simulation: Simulation) -> list[tuple[str, str, Sdf.ValueTypeName, Any]]:
        """Besides `tidy:simulation:live`, what must be authored in a cache so that no solver runs again."""


def quarters(begin: float, end: float) -> NDArray[np.float64]:
    """The time codes from begin to end, both among them, at all quarters of a frame in between."""
    first, last = np.floor(begin * SUBSTEPS + 1e-9) + 1, np.ceil(end * SUBSTEPS - 1e-9)
    inner = np.arange(first, last) / SUBSTEPS
    return np.asarray(np.concatenate([[begin], inner, [end]]) if end > begin else np.array([begin]))


def stage_matrix(matrix: Gf.Matrix4d) -> NDArray[np.float64]:
    """A matrix as numbers, rows as vectors."""
    return np.array(matrix, dtype=np.float64)
