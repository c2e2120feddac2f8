"""Order proof: any frame evaluated alone, in order, backwards or at random comes out the same, to the bit.

The evaluator is the one that nodes use, each order runs in a fresh process, and what is compared is every pose and
every point of the scene, not only of what is known to be a simulation.
"""

from __future__ import annotations

import json
import random
import subprocess
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.errors import TidyCrateError, WrongUsage
from tidy_crate.core.model import Model
from tidy_crate.core.process import own_helper
from tidy_crate.core.progress import Progress, Step, silent
from tidy_crate.core.scene.formats.baking import Digests
from tidy_crate.core.scene.model import Simulation, SimulationState
from tidy_crate.core.scene.request import need_few_frames

IN_ORDER = "in order"
BACKWARDS, SHUFFLED = "backwards", "shuffled"
MOST_BATCHES = 3
MOST_NAMED = 20


class Difference(Model):
    """A prim that comes out otherwise."""

    prim: str
    simulation: str | None
    order: str
    """The order of evaluation in which the prim differs."""
    frame: int
    """The first such frame of that order."""


class OrderProof(Model):
    """The outcome."""

    holds: bool
    frames: int
    orders: tuple[str, ...]
    """The orders that were tried, in words. The first one is what all others are compared with."""
    differing: tuple[str, ...] = ()
    """Those of them in which a frame came out otherwise."""
    differs: tuple[Difference, ...]
    live: tuple[str, ...]
    """Simulations that are still solved on the node."""


def prove_order(context: SceneContext, batch: int = 2, progress: Progress = silent, workers: int = 2) -> OrderProof:
    """Evaluate the staged scene in several orders and compare. Raises WrongUsage when it has no frames.

    Orders that would tell nothing new are left out: once every live simulation came out otherwise in some order.
    """
    survey = context.survey()
    need_few_frames(survey)
    frames = list(survey.frames.numbers())
    if not frames:
        raise WrongUsage("the scene has no frame range", context.scene, "set its start and end")
    orders = _orders(frames, batch)
    question = {
        "scene": str(context.scene),
        "plan": context.plan.model_dump(mode="json"),
        "tokens": context.project.content.frame_tokens,
    }
    live = tuple(s.name for s in survey.simulations if s.state is not SimulationState.CACHED)
    # batches alone first: they are quick, and tell most; a live solver that runs backwards begins again at each frame
    quick = [name for name in orders if name not in (BACKWARDS, SHUFFLED)]
    results: dict[str, Digests] = {}
    differs: list[Difference] = []
    # threads only wait: each starts a process of its own, which has no past
    with ThreadPoolExecutor(workers) as pool:
        for names in (quick, [name for name in orders if name not in quick]):
            runs = {name: pool.submit(_evaluate, question | {"frames": orders[name]}) for name in names}
            for name, run in runs.items():
                results[name] = run.result()
                progress(Step("order proof", len(results), len(orders), "orders", name))
            differs = _differences(results, survey.simulations)
            if live and set(live) <= {one.simulation for one in differs}:
                break
    return OrderProof(
        holds=not differs,
        frames=len(frames),
        orders=tuple(name for name in orders if name in results),
        differing=tuple(name for name in results if any(_otherwise(results, name))),
        differs=tuple(differs),
        live=live,
    )


def _orders(frames: list[int], batch: int) -> dict[str, list[int]]:
    """The whole range first, which all others are compared with; then other orders, and batches each alone."""
    shuffled = frames.copy()
    random.Random(len(frames)).shuffle(shuffled)
    orders = {IN_ORDER: frames, BACKWARDS: frames[::-1], SHUFFLED: shuffled}
    batches = [frames[at : at + batch] for at in range(0, len(frames), batch)]
    count = min(MOST_BATCHES, len(batches))
    picks = sorted({round(i * (len(batches) - 1) / max(1, count - 1)) for i in range(count)})
    for pick in picks:
        chosen = batches[pick]
        orders[f"{chosen[0]}-{chosen[-1]} alone" if len(chosen) > 1 else f"{chosen[0]} alone"] = chosen
    return orders


def _otherwise(results: dict[str, Digests], order: str) -> Iterator[tuple[int, str]]:
    """Yield each frame, and a prim that came out otherwise in it than in order."""
    reference, frames = results[IN_ORDER], results[order]
    for frame in sorted(frames):
        for prim, digest in frames[frame].items():
            if reference[frame].get(prim) != digest:
                yield frame, prim


def _differences(results: dict[str, Digests], simulations: tuple[Simulation, ...]) -> list[Difference]:
    found: dict[str, Difference] = {}
    for order in results:
        for frame, prim in _otherwise(results, order):
            if prim not in found:
                found[prim] = Difference(prim=prim, simulation=_owner(prim, simulations), order=order, frame=frame)
    # simulations first: they are the cause, what hangs on them the consequence
    causes = {prim for simulation in simulations for prim in simulation.prims}
    ranked = sorted(found.values(), key=lambda one: (one.prim not in causes, one.prim))
    return ranked[:MOST_NAMED]


def _owner(prim: str, simulations: tuple[Simulation, ...]) -> str | None:
    """The simulation that sets a prim, or something above it."""
    for simulation in simulations:
        if any((prim + "/").startswith(own + "/") for own in (simulation.name, *simulation.prims)):
            return simulation.name
    return None


def _evaluate(question: dict[str, Any]) -> Digests:
    """Evaluate frames in the order given, in a fresh process, as one node would."""
    line, environment = own_helper("tidy_crate.core.bake.evaluate")
    done = subprocess.run(line, input=json.dumps(question).encode(), env=environment, capture_output=True, check=False)
    if done.returncode != 0:
        last = done.stderr.decode("utf-8", "replace").strip().splitlines()[-1:]
        raise TidyCrateError(f"a frame could not be evaluated ({' '.join(last)[:300]})", question["scene"])
    return {int(frame): digests for frame, digests in json.loads(done.stdout).items()}
