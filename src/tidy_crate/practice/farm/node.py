"""What a simulated node does with a batch: render it for real, from the uploaded crate and nothing else.

A synthetic node renders nothing: it leaves small files and times by a seeded law, for tests of large jobs.
"""

from __future__ import annotations

import multiprocessing
import multiprocessing.connection
import os
import random
import threading
import time
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from blake3 import blake3

from tidy_crate.core.files import hash_file, read_json, write_json
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import Task
from tidy_crate.practice.farm.settings import Fault

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
    """Where finished tasks are reported."""
    faults: tuple[Fault, ...]


@dataclass(frozen=True)
class Report:
    """One finished task."""

    index: int
    """Its place in the batch."""
    cpu_seconds: float
    """Of rendering; for the first of a batch with loading the scene."""
    files: dict[str, tuple[Path, str, int]]
    """By output: path, BLAKE3, bytes."""


def render_batch(order: BatchOrder) -> None:
    """Render the tasks in order and report each as it is done. Runs in a node's process."""
    from tidy_crate.practice.render.renderer import Order, Rendered, render

    # as if the renderer were started for each batch, which is how farms run one: its start is part of loading
    last = time.process_time() - _start_seconds()
    index = 0

    def report(done: Rendered) -> None:
        nonlocal last, index
        for output, path in done.files.items():
            for fault in order.faults:
                wanted = fault.frame == done.task.frame and fault.output in (None, output)
                if wanted and order.attempts[index] == 1:
                    spoil(path, fault.kind)
        now = time.process_time()
        files = {output: [str(path), hash_file(path), path.stat().st_size] for output, path in done.files.items()}
        document = {"index": index, "cpu_seconds": now - last, "files": files}
        last = now
        write_json(order.spool / f"{index:06d}{DONE}", document)
        index += 1

    request = order.request
    render(
        Order(
            scene=order.scene,
            tasks=order.tasks,
            into=order.spool,
            width=request.width,
            height=request.height,
            samples=request.samples,
            outputs=request.outputs,
            views={view.name: view for view in request.views},
            tiles=request.tiles,
            shares=request.shares,
        ),
        report,
    )


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
    """Whether there is a report beyond the first `seen` ones."""
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
    """What a synthetic node leaves for an output of a task: the same bytes whenever it is asked."""
    text = f"{task} {output} {attempt}\n".encode()
    return (text * (SYNTHETIC_BYTES // len(text) + 1))[:SYNTHETIC_BYTES]


def synthetic_digest(data: bytes) -> str:
    """BLAKE3 of a synthetic product."""
    return blake3(data).hexdigest()


def spoil(path: Path, kind: str) -> None:
    """Do to a frame what farms do to frames now and then."""
    import numpy as np
    import OpenEXR

    if kind == "truncated":
        data = path.read_bytes()
        path.write_bytes(data[: len(data) // 2])
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
