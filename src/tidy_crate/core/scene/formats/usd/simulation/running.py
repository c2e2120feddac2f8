"""One simulation on its way through time, step by step and always by the same steps."""

from __future__ import annotations

from collections.abc import Mapping
from itertools import pairwise
from typing import Any

from numpy.typing import NDArray
from pxr import Usd

from tidy_crate.core.scene.formats.usd.simulation.interface import Simulation, State, Value, quarters
from tidy_crate.core.scene.formats.usd.simulation.registry import kinds


class Running:
    """A simulation that has begun at a time code.

    The steps end at all quarters of a frame wherever one stops in between, so stopping changes nothing, to the bit.
    """

    def __init__(self, stage: Usd.Stage, simulation: Simulation, begin: float) -> None:
        self._solver = kinds()[simulation.kind].solver(stage, simulation)
        self._solver.begin(begin)
        self.time = begin

    def go_to(self, time: float) -> None:
        """Go on to a later time code; to an earlier one there is no way back."""
        if time > self.time:
            for before, after in pairwise(quarters(self.time, time)):
                self._solver.step(float(before), float(after))
            self.time = time

    def values(self, time: float | None = None) -> list[Value]:
        """Return what it sets in the scene now; or at a time code before it began, where it rests as it will begin."""
        return self._solver.values(self.time if time is None else time)

    def state(self) -> State:
        """All that is needed to go on from here."""
        return self._solver.state()

    def restore(self, state: Mapping[str, NDArray[Any]], time: float) -> None:
        """Go on from a state at its time code."""
        self._solver.restore(state)
        self.time = time

    def trouble(self) -> tuple[str, ...]:
        """Return what of the simulation is left out or solved otherwise than the scene asks for, by prim."""
        return self._solver.trouble()

    def sample_bytes(self) -> int:
        """Return how large one sample of the result is, at most."""
        return self._solver.sample_bytes()
