"""Evaluating a scene as a render node does: live simulations start, at rest, at the first frame the node is given."""

from __future__ import annotations

from pxr import Sdf, Usd, Vt

from tidy_crate.core.scene.formats.usd.simulation.interface import Array, Pose, Simulation, Value
from tidy_crate.core.scene.formats.usd.simulation.registry import find_all, in_order
from tidy_crate.core.scene.formats.usd.simulation.running import Running

_OP = "xformOp:transform:live"


class Evaluator:
    """Sets what the live simulations of a stage do, frame after frame, in the stage's session layer.

    Forwards it goes on from the frame before. Asked for an earlier frame it starts again there, since a machine has
    no other past than the frames it was given.
    """

    def __init__(self, stage: Usd.Stage) -> None:
        self.stage = stage
        live = [one for one in find_all(stage) if one.live]
        for simulation in live:
            make_editable(stage, simulation)
        self._simulations: list[Simulation] = in_order(live)
        self._running: dict[str, Running] = {}

    def go_to(self, frame: float) -> None:
        """Pose everything at a frame (a time code)."""
        for simulation in self._simulations:
            # what it was given for the last frame is no part of the scene that it is solved from
            clear(self.stage, simulation)
            running = self._running.get(simulation.path)
            if running is None or frame <= running.time:
                running = self._running[simulation.path] = Running(self.stage, simulation, frame)
            running.go_to(frame)
            show(self.stage, running.values())


def make_editable(stage: Usd.Stage, simulation: Simulation) -> None:
    """Opinions below an instance are ignored, so what holds a simulated prim is made a thing of its own."""
    for path in simulation.prims:
        for above in Sdf.Path(path).GetPrefixes():
            prim = stage.GetPrimAtPath(above)
            if prim and prim.IsInstance():
                Sdf.CreatePrimInLayer(stage.GetSessionLayer(), above).instanceable = False


def clear(stage: Usd.Stage, simulation: Simulation) -> None:
    """Take back what `show` set for the prims of a simulation."""
    layer = stage.GetSessionLayer()
    for prim in simulation.prims:
        spec = layer.GetPrimAtPath(prim)
        if spec is not None:
            for attribute in list(spec.attributes):
                spec.RemoveProperty(attribute)


def show(stage: Usd.Stage, values: list[Value]) -> None:
    """Set values in the session layer, which is never saved."""
    layer = stage.GetSessionLayer()
    with Sdf.ChangeBlock():
        for value in values:
            spec = Sdf.CreatePrimInLayer(layer, value.prim)
            if isinstance(value, Pose):
                _author(spec, _OP, Sdf.ValueTypeNames.Matrix4d).default = value.matrix
                order = _author(spec, "xformOpOrder", Sdf.ValueTypeNames.TokenArray, Sdf.VariabilityUniform)
                order.default = [_OP]
            else:
                _author(spec, value.attribute, value.type).default = as_array(value)


def as_array(value: Array) -> Vt.Array:
    """The data as the library's own array."""
    kind = type(value.type.defaultValue)
    return kind.FromNumpy(value.data) if len(value.data) else kind()


def _author(
    spec: Sdf.PrimSpec, name: str, kind: Sdf.ValueTypeName, variability: Sdf.Variability = Sdf.VariabilityVarying
) -> Sdf.AttributeSpec:
    found = spec.attributes.get(name)
    return found if found is not None else Sdf.AttributeSpec(spec, name, kind, variability)
