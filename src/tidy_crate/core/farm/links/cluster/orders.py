"""From an order to what engines and nodes are told: what is possible, the batches, and the facts that a node needs."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from decimal import Decimal
from typing import Any

from tidy_crate.core.asset.frames import format_frames
from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import FarmError
from tidy_crate.core.farm.card import FarmCard, Machine, Program
from tidy_crate.core.farm.links.cluster.interface import Batches
from tidy_crate.core.farm.links.cluster.records import machine_of
from tidy_crate.core.farm.links.cluster.storage import ClusterOrder, Storage
from tidy_crate.core.farm.protocol import JobOrder
from tidy_crate.core.patterns import matches
from tidy_crate.core.scene.formats.registry import format_of
from tidy_crate.core.scene.request import naming
from tidy_crate.core.work.command import RenderCommand
from tidy_crate.core.work.product import product_path
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import Task

# seconds that a task may take where card and scene say nothing
USUAL_TASK_SECONDS = 6 * 3600.0
# minutes that a batch may take beside its frames: to start, and to try one again
MARGIN = 15.0
# wishes of an order that not every engine is told, by the option for it
WISHES = {"gpus": "--gpus", "devices": "--devices", "reclaimable": "--reclaimable"}


class Orders:
    """Orders at the farm of a card. fulfils: wishes that its engine is told, see interface.Engine."""

    def __init__(self, card: FarmCard, storage: Storage, fulfils: frozenset[str]) -> None:
        self._card, self._storage, self._fulfils = card, storage, fulfils

    def class_of(self, order: JobOrder) -> Machine:
        """Return the machine class of an order; the first one where the card has it no more."""
        return next((one for one in self._card.machine if one.name == order.machine), self._card.machine[0])

    def need_possible(self, order: JobOrder) -> None:
        """Raise FarmError for a wish that nothing here can fulfil: it is not taken in silence."""
        classes = self._card.machine
        chosen = self.class_of(order)
        if len(classes) > 1 and not (chosen.hosts or chosen.submit):
            remedy = f'add hosts = ["NAME", "RACK-*"] to the machine {chosen.name} of the card'
            raise FarmError(
                f"the card does not say which machines are of the class {chosen.name}", self._card.name, remedy
            )
        for wish, option in WISHES.items():
            if getattr(order, wish) and wish not in self._fulfils:
                what = f"a scheduler of this kind cannot be told {option}, so that it would be ignored"
                raise FarmError(what, self._card.name, f"send it without {option}, or to a class of machines that fits")
        if order.reclaimable and not (chosen.reclaimable and chosen.reclaimable.submit):
            what = f"the card does not say how reclaimable nodes of the class {chosen.name} are asked for"
            remedy = "add submit = { partition = 'NAME' } to [machine.reclaimable], or send it without --reclaimable"
            raise FarmError(what, self._card.name, remedy)

    def line(self, job: str) -> list[str]:
        """Return the words by which a node runs its part: program and job, as nodes see them."""
        return [str(self._storage.seen_by_nodes(one)) for one in (self._storage.program(), self._storage.job(job))]

    def for_engine(
        self, job: str, order: JobOrder, content: PackingList, names: Sequence[str], longest: int
    ) -> Batches:
        """Return batches with all that an engine is told. longest: tasks of the largest one."""
        chosen, card = self.class_of(order), self._card
        rank = next((number for number, one in enumerate(card.priority) if one.name == order.priority), 0)
        reclaimable = chosen.reclaimable.submit if order.reclaimable and chosen.reclaimable else {}
        program = self._program(order, content)
        licences = program.licences if program is not None else None
        limit = card.limits.minutes_per_frame
        return Batches(
            job=job,
            names=tuple(names),
            line=tuple(self.line(job)),
            most=min(order.nodes, licences or order.nodes),
            rank=rank,
            memory_gb=order.memory_gb,
            cores=chosen.cores,
            gpus=order.gpus or chosen.gpus or None,
            minutes=limit * longest + MARGIN if limit is not None else None,
            options={**chosen.submit, **(card.priority[rank].submit if card.priority else {}), **reclaimable},
        )

    def for_node(self, order: JobOrder, content: PackingList) -> dict[str, Any]:
        """Return the facts that every batch of an order needs."""
        program = self._program(order, content)
        command = program.command if program is not None else content.render.command if content.render else ()
        if not command:
            remedy = "add command = [...] to a [[program]] of the card, or a render command to the scene"
            raise FarmError("nothing says how these machines render the scene", self._card.name, remedy)
        crate = self._storage.crate(order.crate)
        limit = self._card.limits.minutes_per_frame
        return {
            "crate": str(self._storage.seen_by_nodes(crate)),
            "scene": content.scene,
            "scene_bytes": (crate / content.scene).stat().st_size,
            "command": list(command),
            "version_command": list(program.version_command) if program is not None else [],
            "version": order.programs.get(program.name, "") if program is not None else "",
            "retries": order.retries,
            "memory_gb": order.memory_gb,
            "hosts": list(self.class_of(order).hosts),
            "seconds": limit * 60 if limit is not None else USUAL_TASK_SECONDS,
            "cap": float(order.cap) if order.cap is not None else None,
            "price": float(self.class_of(order).price_per_hour or 0),
            "prices": [[like, float(one.price_per_hour or 0)] for one in self._card.machine for like in one.hosts],
        }

    def _program(self, order: JobOrder, content: PackingList) -> Program | None:
        """The card's own program with a command line: one that is ordered, the scene's renderer, else any."""
        able = [one for one in self._card.program if one.command]
        wanted = [*order.programs, content.render.name if content.render else ""]
        named = (one for name in wanted for one in able if name and one.is_called(name))
        return next(named, able[0] if able else None)

    def batches(
        self, placed: ClusterOrder, content: PackingList, tasks: Sequence[Task], first: int, kind: str
    ) -> Iterator[dict[str, Any]]:
        """Batches of tasks that one command line can render: of one request and view."""
        order, generation = placed.order, placed.generation()
        requests = {request.name: request for request in order.requests}
        split = next((one for one in order.requests if one.tile_count > 1 or one.shares > 1), None)
        if split is not None:
            what = "a command line renders whole pictures, so that these machines take no tiles and sample shares"
            raise FarmError(what, split.name, "send it without --tiles and --sample-shares")
        several = len(order.requests) > 1
        names = {name: naming(content.output(name)) for one in order.requests for name in one.outputs}
        for number, group in enumerate(_groups(tasks, order.batch)):
            request = requests[group[0].request]
            yield {
                "name": f"{kind}-{number:05d}",
                "first": first,
                "turn": placed.turn,
                "values": self._values(order.crate, content, request, group),
                "tasks": [
                    {
                        "task": task_line(task),
                        "generation": generation.get(task, "0"),
                        "files": {
                            name: product_path(names[name], task, by_request=several, tokens=content.tokens).as_posix()
                            for name in request.outputs
                        },
                    }
                    for task in group
                ],
            }

    def _values(
        self, crate: str, content: PackingList, request: RenderRequest, group: Sequence[Task]
    ) -> dict[str, str]:
        """Values for the placeholders of the command line, apart from the folder that each batch gets."""
        scene = self._storage.crate(crate) / content.scene
        view = request.view(group[0].view)
        if view is not None and view.variants:
            what = "a command line cannot choose variants, so that these machines cannot render them"
            raise FarmError(what, view.name, "save a scene for each variant, or send it to another farm")
        return {
            "scene": str(self._storage.seen_by_nodes(scene)),
            "host_scene": str(self._storage.seen_by_nodes(format_of(scene).opens(scene))),
            "frames": format_frames([task.frame for task in group]),
            "camera": view.camera if view is not None else "",
            "width": str(request.width),
            "height": str(request.height),
            **(content.render or RenderCommand(command=("-",))).samples_of(request.samples),
        }

    def price_of(self, node: str, ordered: Machine) -> Decimal:
        """Return the price of an hour of a node, by its machine class: see `Machine.hosts`; else by what is ordered."""
        host = machine_of(node)
        known = next((one for one in self._card.machine if any(matches(host, each) for each in one.hosts)), ordered)
        return known.price_per_hour or Decimal(0)


def _groups(tasks: Sequence[Task], size: int) -> Iterator[list[Task]]:
    """Neighbours of one request and view, at most so many at a time."""
    group: list[Task] = []
    for task in tasks:
        if group and (len(group) == size or (task.request, task.view) != (group[0].request, group[0].view)):
            yield group
            group = []
        group.append(task)
    if group:
        yield group


def task_line(task: Task) -> dict[str, Any]:
    """Return a task as the lines of batches and records name it."""
    return {"request": task.request, "frame": task.frame, "view": task.view, "tile": task.tile, "share": task.share}
