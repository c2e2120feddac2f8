"""What a simulated node does with a batch: render it for real, from the uploaded crate and nothing else."""

from __future__ import annotations

import time
from dataclasses import dataclass
from pathlib import Path

from tidy_crate.core.files import hash_file, read_json, write_json
from tidy_crate.core.scene.request import RenderRequest
from tidy_crate.practice.farm.settings import Fault

DONE = ".done.json"


@dataclass(frozen=True)
class BatchOrder:
    """One batch. spool: where finished frames are reported; attempts: which try this is, by frame."""

    scene: Path
    request: RenderRequest
    frames: tuple[int, ...]
    attempts: dict[int, int]
    spool: Path
    faults: tuple[Fault, ...]


@dataclass(frozen=True)
class Report:
    """One finished frame. cpu_seconds: of rendering, for the first of a batch with loading the scene."""

    frame: int
    cpu_seconds: float
    files: dict[str, tuple[Path, str, int]]  # output: path, BLAKE3, bytes


def render_batch(order: BatchOrder) -> None:
    """Render the frames in order and report each as it is done. Runs in a node's process."""
    from tidy_crate.practice.render.renderer import Order, Rendered, render

    last = time.process_time()

    def report(done: Rendered) -> None:
        nonlocal last
        for output, path in done.files.items():
            for fault in order.faults:
                wanted = fault.frame == done.frame and fault.output in (None, output)
                if wanted and order.attempts.get(done.frame) == 1:
                    spoil(path, fault.kind)
        now = time.process_time()
        files = {output: [str(path), hash_file(path), path.stat().st_size] for output, path in done.files.items()}
        document = {"frame": done.frame, "cpu_seconds": now - last, "files": files}
        last = now
        write_json(order.spool / f"{done.frame}{DONE}", document)

    render(
        Order(
            scene=order.scene,
            frames=order.frames,
            into=order.spool,
            width=order.request.width,
            height=order.request.height,
            samples=order.request.samples,
            camera=order.request.cameras[0] if order.request.cameras else "",
            outputs=order.request.outputs,
        ),
        report,
    )


def read_reports(spool: Path) -> list[Report]:
    """The frames reported so far."""
    found = []
    for path in sorted(spool.glob(f"*{DONE}")):
        content = read_json(path, "node's report")
        files = {name: (Path(file), digest, size) for name, (file, digest, size) in content["files"].items()}
        found.append(Report(content["frame"], content["cpu_seconds"], files))
    return found


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
        header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
        OpenEXR.File(header, channels).write(str(path))
