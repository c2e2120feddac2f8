"""Simulations whose kind there is none of: misspelt, or of a package that is missing."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from numpy.typing import NDArray
from pxr import Sdf, Usd

from tidy_crate.core.scene.formats.usd.simulation.attributes import KIND, cache_of, is_live, start_of, value
from tidy_crate.core.scene.formats.usd.simulation.interface import Simulation, State, Value

WHY = "nothing here knows on which earlier frames it depends"
MOST = 60  # characters of a kind that are shown


class Unknown:
    """The kind of all that no other kind claims. It cannot be baked, and check says so."""

    name = "unknown"

    def __init__(self, known: tuple[str, ...]) -> None:
        """known: what a prim may say in `tidy:simulation`, of our own kinds."""
        self._known = known

    def find(self, stage: Usd.Stage) -> list[Simulation]:
        """See SimulationKind.find. What another package's kind claims is among them."""
        return [
            self._one(prim, said)
            for prim in stage.Traverse(Usd.TraverseInstanceProxies())
            if (said := value(prim, KIND, None)) is not None and str(said) not in ("", *self._known)
        ]

    def _one(self, prim: Usd.Prim, said: object) -> Simulation:
        path, there = str(prim.GetPath()), ", ".join(self._known)
        return Simulation(
            path=path, kind=self.name, start=start_of(prim), live=is_live(prim), cache=cache_of(prim), targets=(),
            moved_by=(), prims=(), why=WHY,
            refused=(f"{path}: {str(said)[:MOST]!r} is no kind of simulation that is known here ({there})",),
        )  # fmt: skip

    def inputs(self, stage: Usd.Stage, simulation: Simulation, end: float) -> Iterator[bytes]:
        """Return what it says: more is not known."""
        yield repr(simulation).encode()

    def solver(self, stage: Usd.Stage, simulation: Simulation) -> Unknown:
        """Return a solver that moves nothing, as a machine without the package would."""
        return self

    def switched_off(self, simulation: Simulation) -> list[tuple[str, str, Sdf.ValueTypeName, Any]]:
        """See SimulationKind.switched_off."""
        return []

    def begin(self, time: float) -> None:
        """See Solver.begin."""

    def step(self, before: float, after: float) -> None:
        """See Solver.step."""

    def values(self, time: float) -> list[Value]:
        """See Solver.values."""
        return []

    def state(self) -> State:
        """See Solver.state."""
        return {}

    def restore(self, state: Mapping[str, NDArray[Any]]) -> None:
        """See Solver.restore."""

    def trouble(self) -> tuple[str, ...]:
        """See Solver.trouble."""
        return ()

    def sample_bytes(self) -> int:
        """See Solver.sample_bytes."""
        return 0
