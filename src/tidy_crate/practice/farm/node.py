"""Work of a simulated node on a batch: it renders from the uploaded crate and nothing else.

A synthetic node renders nothing: it leaves small files and times by a seeded law, for tests of large jobs.
"""

from __future__ import annotations

import multiprocessing
import multiprocessing.connection
import os
import random
import threading
import time
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING

from blake3 import blake3

from tidy_crate.core.asset.frames import format_frames, parse_frames
from tidy_crate.core.asset.sequences import STANDARD
from tidy_crate.core.farm.protocol import FileForm
from tidy_crate.core.files import hash_file, read_json, write_json
from tidy_crate.core.process import run_program, without_tokens
from tidy_crate.core.scene.formats.registry import format_of
from tidy_crate.core.scene.rendering import products
from tidy_crate.core.work.command import filled
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import Task
from tidy_crate.practice.farm.settings import FarmProgram, Fault

if TYPE_CHECKING:
    from tidy_crate.practice.render.renderer import Order

DONE = ".done.json"
# bytes of a synthetic frame
SYNTHETIC_BYTES = 256


@dataclass(frozen=True)
class BatchOrder:
    """One batch: tasks of one request."""

    scene: Path
    request: RenderRequest
    tasks: tuple[Task, ...]
    attempts: tuple[int, ...]
    """For each task, which try this is."""
    spool: Path
    """Folder to which finished tasks are reported."""
    faults: tuple[Fault, ...]
    forms: Mapping[str, FileForm] = field(default_factory=dict)
    """By output, another compression than the usual one."""
    program: FarmProgram | None = None
    """The farm's own program that renders it; None for the practice renderer."""


@dataclass(frozen=True)
class Report:
    """One finished task."""

    index: int
    """Its place in the batch."""
    cpu_seconds: float
    """Seconds of rendering; for the first of a batch with loading the scene."""
    files: dict[str, tuple[Path, str, int]]
    """By output: path, BLAKE3, bytes."""


def render_batch(order: BatchOrder) -> None:
    """Render the tasks in order and report each as it is done. Runs in a node's process."""
    if order.program is not None:
        render_by_program(order, order.program)
        return
    from tidy_crate.practice.render.renderer import Rendered, render

    # as if the renderer were started for each batch, which is how farms run one: its start is part of loading
    last = time.process_time() - _start_seconds()
    index = 0
    earlier: dict[str, Path] = {}

    def report(done: Rendered) -> None:
        nonlocal last, index
        for output, path in done.files.items():
            for fault in order.faults:
                wanted = fault.frame == done.task.frame and fault.output in (None, output)
                if wanted and order.attempts[index] == 1:
                    spoil(path, fault.kind, earlier.get(output))
            earlier[output] = path
        now = time.process_time()
        files = {output: [str(path), hash_file(path), path.stat().st_size] for output, path in done.files.items()}
        document = {"index": index, "cpu_seconds": now - last, "files": files}
        last = now
        write_json(order.spool / f"{index:06d}{DONE}", document)
        index += 1

    first = order.tasks[0]
    misnumbered = any(one.kind == "misnumbered" and one.frame == first.frame for one in order.faults)
    if misnumbered and order.attempts[0] == 1:
        # nothing was rendered before it that could take its place
        beside = replace(first, frame=_neighbour(order.request, first.frame))
        render(_to_render(order, (beside,), order.spool / "neighbour"), lambda done: earlier.update(done.files))
    render(_to_render(order, order.tasks, order.spool), report)


def _neighbour(request: RenderRequest, frame: int) -> int:
    """Return the frame before one; the one after it where it is the first of a request."""
    return frame + 1 if frame == min(parse_frames(request.frames)) else frame - 1


def _to_render(order: BatchOrder, tasks: tuple[Task, ...], into: Path) -> Order:
    from tidy_crate.practice.render.renderer import Order

    request = order.request
    return Order(
        scene=order.scene,
        tasks=tasks,
        into=into,
        width=request.width,
        height=request.height,
        samples=request.samples,
        outputs=request.outputs,
        views={view.name: view for view in request.views},
        tiles=request.tiles,
        shares=request.shares,
        compression={name: form.compression for name, form in order.forms.items() if form.compression},
    )


def render_by_program(order: BatchOrder, program: FarmProgram) -> None:
    """Render a batch by the farm's own program, which writes its files where the outputs' names say."""
    scene = order.scene
    form = format_of(scene)
    request = order.request
    outputs = {output.name: output for output in form.read(scene, None).outputs}
    view = request.view(order.tasks[0].view)
    values = {
        "scene": str(scene), "host_scene": str(form.opens(scene)),
        "frames": format_frames(tuple(task.frame for task in order.tasks)),
        "camera": view.camera if view else "", "width": str(request.width), "height": str(request.height),
        "output_folder": str(order.spool),
    }  # fmt: skip
    if request.samples is not None:
        values["samples"] = str(request.samples)
    limit = program.timeout_seconds * len(order.tasks)
    ended = run_program(filled(program.command, values), order.spool, without_tokens(os.environ), limit, watch=True)
    if ended.late or ended.code != 0:
        what = f"took over {limit:g} s" if ended.late else f"ended with {ended.code}"
        raise RuntimeError(f"{program.name} {what}\n{ended.text[-2000:]}")
    each = ended.cpu_seconds / len(order.tasks)
    for index, task in enumerate(order.tasks):
        found = products(order.spool, tuple(outputs[name] for name in request.outputs), task, STANDARD)
        if any(path is None for path in found.values()):
            raise RuntimeError(f"{program.name} left no file for {task}\n{ended.text[-2000:]}")
        files = {name: [str(path), hash_file(path), path.stat().st_size] for name, path in found.items() if path}
        document = {"index": index, "cpu_seconds": each, "files": files}
        write_json(order.spool / f"{index:06d}{DONE}", document)


@lru_cache(1)
def _start_seconds() -> float:
    """Return the processor seconds that this process took to start and load the renderer. First asked when it has."""
    return time.process_time()


def end_with_farm() -> None:
    """Let this node's process end when the farm's does, however that ends. Nothing else would stop it."""
    farm = multiprocessing.parent_process()
    if farm is None:
        return

    def look() -> None:
        multiprocessing.connection.wait([farm.sentinel])
        os._exit(1)

    threading.Thread(target=look, daemon=True).start()


def has_report(spool: Path, seen: int) -> bool:
    """Return whether there is a report beyond the first `seen` ones."""
    return (spool / f"{seen:06d}{DONE}").is_file()


def read_reports(spool: Path, seen: int) -> list[Report]:
    """The tasks reported so far, from number `seen` on: a node reports in order."""
    found = []
    while (path := spool / f"{seen:06d}{DONE}").is_file():
        content = read_json(path, "node's report")
        files = {name: (Path(file), digest, size) for name, (file, digest, size) in content["files"].items()}
        found.append(Report(content["index"], content["cpu_seconds"], files))
        seen += 1
    return found


def synthetic_seconds(task: Task, seed: int, mean: float) -> float:
    """Seconds that a synthetic node takes for a task: the same whenever it is asked, lognormal around the mean."""
    return mean * random.Random(f"{seed} {task}").lognormvariate(-0.03125, 0.25)


def synthetic_product(task: Task, output: str, attempt: int) -> bytes:
    """Return what a synthetic node leaves for an output of a task: the same bytes whenever it is asked."""
    text = f"{task} {output} {attempt}\n".encode()
    return (text * (SYNTHETIC_BYTES // len(text) + 1))[:SYNTHETIC_BYTES]


def synthetic_digest(data: bytes) -> str:
    """BLAKE3 of a synthetic product."""
    return blake3(data).hexdigest()


def spoil(path: Path, kind: str, before: Path | None = None) -> None:
    """Do to a frame what farms do to frames now and then. before: the frame that was rendered before it."""
    import numpy as np
    import OpenEXR

    if kind == "truncated":
        data = path.read_bytes()
        path.write_bytes(data[: len(data) // 2])
    elif kind == "misnumbered" and before is not None:
        path.write_bytes(before.read_bytes())
    elif kind == "small":
        whole = OpenEXR.File(str(path), separate_channels=True)
        channels = {name: channel.pixels[::2, ::2].copy() for name, channel in whole.channels().items()}
        OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}, channels).write(str(path))
    elif kind in ("black", "invalid"):
        with_channels = OpenEXR.File(str(path), separate_channels=True)
        channels = {name: channel.pixels for name, channel in with_channels.channels().items()}
        for name in [name for name in channels if name in ("R", "G", "B")]:
            channels[name] = np.zeros_like(channels[name]) if kind == "black" else channels[name].copy()
            if kind == "invalid":
                channels[name][10:14, 20:40] = np.nan
        # its place in the whole picture stays, where it is a tile
        windows = {key: with_channels.header()[key] for key in ("dataWindow", "displayWindow")}
        header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage, **windows}
        OpenEXR.File(header, channels).write(str(path))
