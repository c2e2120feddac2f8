"""The job sheet: what a person does at a farm that has no interface for programs, step by step."""

from __future__ import annotations

import re
import shlex
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import PurePosixPath
from typing import TYPE_CHECKING

from tidy_crate.core.asset import paths
from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.prices import Price
from tidy_crate.core.farm.protocol import JobOrder, Start
from tidy_crate.core.scene.request import naming
from tidy_crate.core.work.product import product_path
from tidy_crate.core.work.request import RenderRequest, View
from tidy_crate.core.work.task import Task, TaskRange

if TYPE_CHECKING:
    from jinja2 import Environment


@dataclass(frozen=True)
class Setting:
    """One setting to type in."""

    name: str
    value: str


@dataclass(frozen=True)
class OutputLine:
    """One output: what it is called, and what its files are."""

    name: str
    passes: str
    form: str
    first: tuple[tuple[str, str], ...]
    """By view, the name of its first file below the folder for frames; one without a name where there are no views."""


@dataclass(frozen=True)
class SheetPart:
    """One request: its settings and outputs."""

    title: str
    settings: tuple[Setting, ...]
    outputs: tuple[OutputLine, ...]


@dataclass(frozen=True)
class JobSheet:
    """All that the sheet says."""

    job: str
    title: str
    """Name of the farm."""
    archive: str
    bytes: int
    blake3: str
    sha256: str
    scene: str
    programs: tuple[str, ...]
    command: str
    """The command line that renders it where it was made, with placeholders; empty where none is known."""
    parts: tuple[SheetPart, ...]
    machine: str
    nodes: int
    batch: int
    frames_folder: str
    numbering: str
    start: str
    clock: tuple[str, ...]
    """Prices, and when to shut down."""
    excused: tuple[str, ...]
    """Known problems that were accepted."""
    again: str = ""
    """Why these frames are asked for once more; empty for a first order."""


def job_sheet(
    job: str,
    card: FarmCard,
    content: PackingList,
    order: JobOrder,
    tasks: Sequence[TaskRange],
    archive: tuple[str, int, str, str],
    frames_folder: str,
    again: str = "",
) -> JobSheet:
    """Return the sheet of an order, or of some of its tasks. archive: its path at the place, bytes, BLAKE3, SHA-256."""
    requests = {request.name: request for request in order.requests}
    several = len(order.requests) > 1
    parts = tuple(_part(requests[one.request], one, content, order, card, several) for one in tasks)
    machine = card.machine_named(order.machine)
    render = content.render
    programs = tuple(f"{name} {version}" for name, version in order.programs.items())
    if not programs and render is not None and render.program:
        programs = (render.program,)
    excused = [f"{one.authored}: {one.because}" for one in content.missing if one.let_go]
    excused += [f"{one.code}: {one.because}" for one in content.waived]
    return JobSheet(
        job=job,
        title=card.title or card.name,
        archive=archive[0],
        bytes=archive[1],
        blake3=archive[2],
        sha256=archive[3],
        scene=content.scene,
        programs=programs,
        command=" ".join(map(_word, render.command)) if render is not None else "",
        parts=parts,
        machine=_machine(order, card),
        nodes=order.nodes,
        batch=order.batch,
        frames_folder=frames_folder,
        numbering=_numbering(card),
        start=_start(order),
        clock=tuple(_clock(card, card.prices_of(machine))),
        excused=tuple(excused),
        again=again,
    )


def _word(word: str) -> str:
    """A word of a command line. The braces of a placeholder stay as they are."""
    return word if re.fullmatch(r"[\w{}./:=,@%+-]+", word) else shlex.quote(word)


def _part(
    request: RenderRequest, tasks: TaskRange, content: PackingList, order: JobOrder, card: FarmCard, several: bool
) -> SheetPart:
    settings = [
        Setting("Frames", tasks.frames),
        Setting("Resolution", f"{request.width} x {request.height} pixels, at a scale of 100 %"),
        Setting("Samples", "as in the scene" if request.samples is None else f"{request.samples} a pixel"),
    ]
    frames = content.essentials.frames
    if frames is not None and frames.fps:
        settings.append(Setting("Rate", f"{frames.fps:g} frames a second"))
    views = [view for view in request.views if not tasks.views or view.name in tasks.views]
    cameras = sorted({content.output(name).camera or "" for name in request.outputs} - {""})
    if cameras and not any(view.camera for view in views):
        settings.append(Setting("Camera", ", ".join(cameras)))
    settings += [Setting(f"View {view.name}", _view(view)) for view in views]
    if request.tile_count > 1:
        settings.append(Setting("Tiles", "{} columns, {} rows".format(*request.tiles)))
    if request.shares > 1:
        settings.append(Setting("Sample shares", str(request.shares)))
    outputs = []
    first = min(request.numbers())
    for name in request.outputs:
        output = content.output(name)
        form = order.forms.get(name)
        kind = (
            (form.format if form else None)
            or output.format
            or PurePosixPath(paths.file_name(output.path)).suffix.lstrip(".")
        )
        packing = (form.compression if form else None) or output.compression
        named = []
        for view in [one.name for one in views] or [""]:
            task = Task(
                request.name, 0 if card.outputs.from_zero else first, view,
                0 if request.tile_count > 1 else None, 0 if request.shares > 1 else None,
            )  # fmt: skip
            path = product_path(naming(output), task, by_request=several, tokens=content.tokens)
            named.append((view, path.as_posix()))
        outputs.append(
            OutputLine(
                name=name,
                passes=", ".join(output.passes) or "the picture",
                form=", ".join(part for part in (kind, packing, output.colour_space) if part),
                first=tuple(named),
            )
        )
    title = f"Request {request.name}" if several else "What to render"
    return SheetPart(title, tuple(settings), tuple(outputs))


def _view(view: View) -> str:
    parts = [f"camera {view.camera}"] if view.camera else []
    parts += [f"{one.prim}: variant {one.set} = {one.choice}" for one in view.variants]
    return ", ".join(parts) or "as in the scene"


def _machine(order: JobOrder, card: FarmCard) -> str:
    parts = [order.machine]
    if order.priority:
        parts.append(f"priority {order.priority}")
    if order.reclaimable:
        parts.append("reclaimable machines")
    if order.gpus is not None:
        parts.append(f"{order.gpus} GPUs each")
    if order.devices:
        parts.append("render on " + " or ".join(order.devices))
    if order.memory_gb is not None:
        parts.append(f"at least {order.memory_gb:g} GiB of memory")
    if order.cap is not None:
        parts.append(f"stop before it costs more than {order.cap} {card.currency}")
    return ", ".join(parts)


def _numbering(card: FarmCard) -> str:
    if card.outputs.from_zero:
        return "This farm numbers frames from 0: leave them so, they are put on their own numbers when they come home."
    return "Every frame keeps its own number."


def _start(order: JobOrder) -> str:
    match order.start:
        case Start.HELD:
            return "Prepare the job, and do not start it before you are told."
        case Start.TESTED:
            tests = ", ".join(one.frames for one in order.tests)
            return f"Render the test frames {tests} first. Start the rest only when you are told."
        case _:
            return "Start it at once."


_STEPS = {
    "upload": "while the crate is on its way", "processing": "while the farm prepares the scene",
    "startup": "while machines start up", "render": "while they render", "download": "while frames are fetched",
}  # fmt: skip


def _clock(card: FarmCard, prices: Sequence[Price]) -> list[str]:
    """Return the prices of the machines in plain words."""
    found = []
    for price in prices:
        if price.per == "rental":
            steps = ", ".join(_STEPS[one] for one in price.on_the_clock)
            found.append(
                f"{price.amount} {card.currency} for each machine and block of {price.block_hours:g} h, paid {steps}."
            )
        elif price.per == "frame":
            found.append(f"{price.amount} {card.currency} for each frame.")
        else:
            what = price.per.replace("-", " ")
            found.append(f"{price.amount} {card.currency} for each {what} from start-up to shut-down.")
    if card.place.rented:
        found.append("The machines are paid for until they are shut down.")
        found.append(
            "Shut them down only once every frame is home and verified: tidy-crate track says when that is so. "
            "Then note it with tidy-crate release."
        )
    return found


def as_markdown(sheet: JobSheet) -> str:
    """Return the sheet as Markdown."""
    return _templates().get_template("job-sheet.md.j2").render(sheet=sheet, size=_size)


def as_html(sheet: JobSheet) -> str:
    """Return the sheet as one HTML page."""
    return _templates().get_template("job-sheet.html.j2").render(sheet=sheet, size=_size)


def _size(count: int) -> str:
    for unit, power in (("GiB", 30), ("MiB", 20), ("KiB", 10)):
        if count >= 1 << power:
            return f"{count / (1 << power):.1f} {unit} ({count} bytes)"
    return f"{count} bytes"


@cache
def _templates() -> Environment:
    from jinja2 import Environment, PackageLoader, StrictUndefined

    def escapes(name: str | None) -> bool:
        return bool(name and name.endswith(".html.j2"))

    found = Environment(
        loader=PackageLoader("tidy_crate.core.farm.links.drop"), autoescape=escapes, undefined=StrictUndefined,
        trim_blocks=True, lstrip_blocks=True,
    )  # fmt: skip
    found.filters["plain"], found.filters["code"] = _plain, _code
    return found


def _plain(text: object) -> str:
    """A foreign text in a line of Markdown: nothing in it is taken for markup."""
    found = " ".join(str(text).split())
    return "".join(f"\\{character}" if character in "\\`*_{}[]<>#|" else character for character in found)


def _code(text: object) -> str:
    """A foreign text as a code span of Markdown: its fence is longer than any run of backticks in it."""
    found = " ".join(str(text).split())
    fence = "`" * (max((len(run) for run in re.findall("`+", found)), default=0) + 1)
    # a space on both sides belongs to the fence
    return f"{fence} {found} {fence}" if "`" in found or not found else f"{fence}{found}{fence}"
