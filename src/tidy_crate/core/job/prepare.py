"""Preparing a submission: the crate looked over once more, as it is asked for and against the farm's rules."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from pathlib import Path

from tidy_crate.core.check.asked import Asked
from tidy_crate.core.check.finding import Finding, Severity
from tidy_crate.core.check.run import Against, check_crate
from tidy_crate.core.context.decisions import Waiver
from tidy_crate.core.crate.packing import PackingList, read_packing_list
from tidy_crate.core.crate.test_frames import read_test_frames
from tidy_crate.core.errors import Blocked, WrongUsage
from tidy_crate.core.estimate.model import Wishes
from tidy_crate.core.farm.card import FarmCard, Machine, Program
from tidy_crate.core.farm.overlay import Overlay, overlay
from tidy_crate.core.farm.protocol import JobOrder, Start
from tidy_crate.core.files import inside
from tidy_crate.core.job.asked import Difference, differences, forms_asked, requests_asked, test_ranges
from tidy_crate.core.job.ledger import new_key
from tidy_crate.core.model import Model
from tidy_crate.core.scene.formats.registry import format_of
from tidy_crate.core.scene.model import Survey
from tidy_crate.core.scene.settings import load_maps
from tidy_crate.core.versions import NotComparable, parse_version
from tidy_crate.core.work.options import BUILT_IN, USUAL_BATCH, USUAL_RETRIES, SendOptions, Wish, layered
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import TaskRange, ranges_of, tasks_of, whole


class Sending(Model):
    """A submission before it is sent."""

    crate: Path
    delivered: PackingList
    """The packing list as it is in the crate, which the farm gets."""
    packing: PackingList
    """The same with what is asked of it now."""
    farm: str
    machine: str
    nodes: int
    batch: int
    """Tasks that a node takes at a time."""
    ranges: tuple[TaskRange, ...]
    """The tasks that this farm is to render."""
    tests: tuple[TaskRange, ...] = ()
    """Those of them that are rendered first, while the rest is held."""
    tasks: int
    """Number of tasks."""
    products: int
    """Number of files that they leave."""
    options: SendOptions
    """All wishes in effect."""
    wishes: tuple[Wish, ...] = ()
    """The same, each with where it comes from."""
    differences: tuple[Difference, ...] = ()
    """Wishes that differ from how the crate was packed."""
    errors: tuple[Finding, ...]
    """Findings that forbid it."""
    warnings: tuple[Finding, ...]
    """Findings that are not waived."""
    waived: tuple[Finding, ...]
    accepted: tuple[Waiver, ...]
    """Waivers of the scene, of which the crate shows nothing."""
    overlay: Overlay
    """Changes that the farm's rules make to the order."""

    def of(self, ranges: tuple[TaskRange, ...]) -> Sending:
        """The same for some of the tasks only. Raises WrongUsage on tasks that the crate does not have."""
        requests = {request.name: request for request in self.packing.requests}
        tasks = list(tasks_of(ranges, self.packing.requests))
        own = set(tasks)
        tests = ranges_of(task for task in tasks_of(self.tests, self.packing.requests) if task in own)
        update = {
            "ranges": ranges,
            "tests": tests,
            "tasks": len(tasks),
            "products": sum(len(requests[task.request].outputs) for task in tasks),
            "nodes": min(self.nodes, -(-len(tasks) // self.batch)),
        }
        return self.model_copy(update=update)

    def order(self, crate: str) -> JobOrder:
        """The order for the farm. crate: the farm's name for the crate."""
        options = self.options
        return JobOrder(
            key=new_key(),
            crate=crate,
            requests=self.packing.requests,
            tasks=self.ranges,
            batch=self.batch,
            nodes=self.nodes,
            machine=self.machine,
            outputs=self.overlay.outputs,
            forms=forms_asked(self.packing.requests, options),
            retries=USUAL_RETRIES if options.retries is None else options.retries,
            priority=options.priority or "",
            reclaimable=bool(options.reclaimable),
            gpus=options.gpus,
            devices=options.devices or (),
            memory_gb=options.memory_gb,
            programs=options.programs or {},
            start=Start(options.start or "at-once"),
            tests=self.tests,
            cap=options.cap,
        )


def prepare(
    crate: Path,
    card: FarmCard,
    layers: Sequence[tuple[str, SendOptions]],
    today: date,
    origin: Path | None = None,
    views: tuple[str, ...] = (),
    survey_cache: Path | None = None,
) -> Sending:
    """Look the crate over once more, as it is asked for and against the farm's rules, before it is sent.

    layers: the wishes, see `layered`. today: for prices that may be old. origin, survey_cache: see `check_crate`.
    views: some of the views that the wishes come to, by name; all of them where none is named.
    Raises Blocked when the crate lacks something needed, WrongUsage on wishes that scene or farm do not know.
    """
    crate = crate.absolute()
    content = read_packing_list(crate)
    if content.blocking:
        names = ", ".join(one.authored for one in content.blocking[:5])
        raise Blocked(f"the crate lacks files that these frames need: {names}", crate, "relink them and collect again")
    content.to_render()
    options, wishes = layered((("built in", BUILT_IN), *layers))
    chosen = _fits(card, options)
    tested = tested_here(crate, content)
    requests = requests_asked(content, _scene_of(crate, content, options), options, tested)
    if views:
        requests = tuple(_only(request, views) for request in requests)
    asked = content.model_copy(update={"requests": requests})
    asked.need_paths_apart()
    tests = test_ranges(requests, options, tested) if options.start == "tested" else ()
    batch, nodes = options.batch or USUAL_BATCH, options.nodes
    against = Against(
        cards=(card,), today=today,
        wishes=Wishes(chosen.name, nodes, batch, priority=options.priority, reclaimable=options.reclaimable),
    )  # fmt: skip
    forms = forms_asked(requests, options)
    way = Asked(
        requests,
        {name: form.format for name, form in forms.items() if form.format},
        {name: form.compression for name, form in forms.items() if form.compression},
    )
    otherwise = way if requests != content.requests or forms else None
    result = check_crate(crate, against, origin, otherwise, survey_cache)
    tasks = asked.tasks
    most = min(chosen.nodes, card.limits.nodes or chosen.nodes)
    # more machines than there are batches would only start up and be billed
    useful = min(nodes or most, most, -(-tasks // batch))
    return Sending(
        crate=crate,
        delivered=content,
        packing=asked,
        farm=card.name,
        machine=chosen.name,
        nodes=useful,
        batch=batch,
        ranges=whole(requests),
        tests=tests,
        tasks=tasks,
        products=sum(request.task_count * len(request.outputs) for request in requests),
        options=options,
        wishes=wishes,
        differences=differences(content, requests, options),
        errors=tuple(f for f in result.findings if f.severity is Severity.ERROR),
        warnings=tuple(f for f in result.findings if f.severity is Severity.WARNING and not f.waived),
        waived=tuple(f for f in result.findings if f.waived),
        accepted=result.accepted,
        overlay=overlay(card, content.essentials.outputs),
    )


def _only(request: RenderRequest, views: tuple[str, ...]) -> RenderRequest:
    return request.model_copy(update={"views": tuple(view for view in request.views if view.name in views)})


def tested_here(crate: Path, content: PackingList) -> tuple[int, ...]:
    """Return the frames of a crate that were rendered here as a test, in their order."""
    own = content.digest
    return tuple(sorted({one.frame for one in read_test_frames(crate) if one.contents == own}))


def _scene_of(crate: Path, content: PackingList, options: SendOptions) -> Survey | None:
    """The scene in the crate; None where no wish names anything in it."""
    if not options.cameras and not options.variants:
        return None
    scene = inside(crate, content.scene)
    maps = load_maps(maps=content.settings_maps)
    return format_of(scene).read(scene, None, next(iter(content.requests), None), maps, None, content.tokens)


def _fits(card: FarmCard, options: SendOptions) -> Machine:
    """Return the machine class of a card that is wanted. Raises WrongUsage where card and wishes disagree."""
    named = card.machine_named(options.machine)
    card.priority_named(options.priority)
    fitting = [one for one in card.machine if not _misfit(one, options)] if options.machine is None else [named]
    chosen = fitting[0] if fitting else named
    if trouble := _misfit(chosen, options):
        raise WrongUsage(trouble, f"{card.name}, {chosen.name}", f"see what it has: tidy-crate farm show {card.name}")
    for name, version in (options.programs or {}).items():
        program = card.program_called(name)
        if program is None or not _offers(program, version):
            offered = program.offered if program is not None else "it is not on its card"
            raise WrongUsage(f"the farm does not offer {name} {version}", card.name, f"offered: {offered}")
    return chosen


def _misfit(machine: Machine, options: SendOptions) -> str:
    """Return why a machine class does not do what is wished, empty where it does."""
    if options.reclaimable and machine.reclaimable is None:
        return "this machine class is never taken back, so it is no cheaper that way"
    if options.gpus is not None and options.gpus > machine.gpus:
        return f"{options.gpus} GPUs are wanted, a node has {machine.gpus}"
    if options.devices and not set(options.devices) & set(machine.device_kinds):
        return f"{' or '.join(options.devices)} is wanted, a node renders on {' or '.join(machine.device_kinds)}"
    if options.memory_gb is not None and options.memory_gb > machine.memory_gb:
        return f"{options.memory_gb:g} GiB of memory are wanted, a node has {machine.memory_gb:g}"
    return ""


def _offers(program: Program, version: str) -> bool:
    try:
        return parse_version(version) in program.offered
    except NotComparable:
        return False
