"""The practice host's command line: `python -m tidy_crate.practice.host export|relink|bake|freeze|render ...`."""

from __future__ import annotations

import argparse
import json
import math
import sys
import time
from dataclasses import dataclass
from pathlib import Path

from tidy_crate.practice.host.scene import HostScene, load, save

VERSION = "3.2"


def main() -> int:
    """Run one command."""
    parser = argparse.ArgumentParser(
        prog="practice-host", description="Exports, relinks, bakes and renders its own scenes."
    )
    commands = parser.add_subparsers(dest="command", required=True)
    export = commands.add_parser("export", help="write a scene sheet")
    export.add_argument("scene", type=Path)
    export.add_argument("sheet", type=Path)
    relink = commands.add_parser("relink", help="take other paths for some slots")
    relink.add_argument("scene", type=Path)
    relink.add_argument("paths", type=Path)
    bake = commands.add_parser("bake", help="write the cache of a simulation, a file per frame")
    bake.add_argument("scene", type=Path)
    bake.add_argument("name")
    bake.add_argument("--frames", nargs=2, type=int, required=True)
    bake.add_argument("--into", type=Path, required=True)
    freeze = commands.add_parser("freeze", help="turn generators into plain data")
    freeze.add_argument("scene", type=Path)
    freeze.add_argument("names", type=Path)
    render = commands.add_parser("render", help="render frames")
    render.add_argument("scene", type=Path)
    render.add_argument("--frames", required=True)
    render.add_argument("--into", type=Path, required=True)
    words = parser.parse_args()
    try:
        scene = load(words.scene)
        if words.command == "export":
            words.sheet.write_text(json.dumps(sheet_of(words.scene, scene), indent=1), encoding="utf-8")
        elif words.command == "relink":
            paths = json.loads(words.paths.read_text(encoding="utf-8"))
            caches = {f"cache of {name}": name for name in scene.simulations}
            scene.caches |= {caches[slot]: path for slot, path in paths.items() if slot in caches}
            scene.textures |= {slot: path for slot, path in paths.items() if slot not in caches}
            save(words.scene, scene)
        elif words.command == "bake":
            bake_frames(scene, words.name, words.frames[0], words.frames[1], words.into)
        elif words.command == "freeze":
            scene.frozen += json.loads(words.names.read_text(encoding="utf-8"))
            save(words.scene, scene)
        else:
            render_frames(words.scene, scene, words.frames, words.into)
    except (OSError, ValueError) as error:
        sys.stderr.write(f"practice-host: {error}\n")
        return 1
    return 0


def sheet_of(path: Path, scene: HostScene) -> dict[str, object]:
    """The scene as a scene sheet."""
    first, last, rate = scene.frames
    host = ["{python}", "-m", "tidy_crate.practice.host"]
    return {
        "scene_sheet": 1,
        "scene": path.name,
        "host": {"name": "practice host", "version": VERSION},
        "frames": {"start": first, "end": last, "fps": rate},
        "resolution": {"width": scene.size[0], "height": scene.size[1]},
        "cameras": [{"name": scene.camera}],
        "outputs": [
            {"name": name, "path": output, "passes": [{"name": "beauty"}], "camera": scene.camera}
            for name, output in scene.outputs.items()
        ],
        "assets": [{"slot": slot, "path": file, "kind": "texture"} for slot, file in scene.textures.items()],
        "simulations": [
            {
                "name": name,
                "kind": kind,
                "state": "cached" if name in scene.caches else "live",
                "start": start,
                "cache": f"{name}.####.json",
                "slot": f"cache of {name}",
            }
            for name, (kind, start) in scene.simulations.items()
        ],
        "generators": [
            {"name": name, "kind": kind, "frozen": name in scene.frozen} for name, kind in scene.generators.items()
        ],
        "motion": "things",
        "commands": {
            "relink": [*host, "relink", "{host_scene}", "{paths}"],
            "export": [*host, "export", "{host_scene}", "{sheet}"],
            "bake": [
                *host,
                "bake",
                "{host_scene}",
                "{simulation}",
                "--frames",
                "{first}",
                "{last}",
                "--into",
                "{cache_folder}",
            ],
            "bake_done": r"baked frame (?P<frame>-?\d+)",
            "freeze": [*host, "freeze", "{host_scene}", "{names}"],
            "render": {
                "command": [*host, "render", "{host_scene}", "--frames", "{frames}", "--into", "{output_folder}"],
                "frame_done": r"frame (?P<frame>-?\d+) done in (?P<seconds>[\d.]+) s",
                "basis": "practice",
                "name": "practice host",
                "version": VERSION,
            },
        },
    }


@dataclass
class Motion:
    """A buoy on a spring, pulled at by the swell: where it is depends on where it was."""

    frame: int
    position: float = 0.0
    speed: float = 0.0

    def go_to(self, frame: int) -> float:
        """Its place at a later frame."""
        while self.frame < frame:
            self.frame += 1
            self.speed = 0.9 * self.speed - 0.08 * self.position + 2.0 * math.sin(0.4 * self.frame)
            self.position += self.speed
        return self.position


def bake_frames(scene: HostScene, name: str, first: int, last: int, into: Path) -> None:
    """Write the place of a simulation at each frame. Raises ValueError when the scene has none of that name."""
    if name not in scene.simulations:
        raise ValueError(f"no simulation is called {name}")
    motion = Motion(scene.simulations[name][1])
    into.mkdir(parents=True, exist_ok=True)
    for frame in range(first, last + 1):
        position = motion.go_to(frame)
        sign = "-" if frame < 0 else ""
        (into / f"{name}.{sign}{abs(frame):04d}.json").write_text(json.dumps({"place": position}), encoding="utf-8")
        sys.stdout.write(f"baked frame {frame}\n")
        sys.stdout.flush()


def _away(path: Path, scene: HostScene, name: str, frame: int, moved: dict[str, Motion]) -> float:
    """Return where a simulation is: by its cache, else solved from the first frame that this run was given."""
    from tidy_crate.core.asset.sequences import STANDARD

    if name in scene.caches:
        cached = path.parent / STANDARD.at_frame(scene.caches[name], frame)
        return float(json.loads(cached.read_text(encoding="utf-8"))["place"])
    return moved.setdefault(name, Motion(frame)).go_to(frame)


def render_frames(path: Path, scene: HostScene, frames: str, into: Path) -> None:
    """Render: bands of the textures' mean colours that move from frame to frame. A missing texture is an error."""
    import numpy as np
    import OpenEXR
    from PIL import Image

    from tidy_crate.core.asset.frames import parse_frames
    from tidy_crate.core.asset.sequences import STANDARD

    tones = []
    for texture in scene.textures.values():
        with Image.open(path.parent / texture) as image:
            tones.append(np.asarray(image.convert("RGB"), np.float32).mean(axis=(0, 1)) / 255)
    width, height = scene.size
    if any(name not in scene.frozen for name in scene.generators):
        raise ValueError("a generator is of a plug-in that this machine lacks")
    moved: dict[str, Motion] = {}
    for frame in parse_frames(frames):
        began = time.perf_counter()
        away = sum(_away(path, scene, name, frame, moved) for name in scene.simulations)
        band = ((np.arange(width) + 4 * frame + round(away)) // 40) % max(1, len(tones))
        row = np.asarray(tones or [[0.5, 0.5, 0.5]], np.float32)[band]
        channels = {c: np.repeat(row[None, :, i], height, axis=0).astype(np.float16) for i, c in enumerate("RGB")}
        for output in scene.outputs.values():
            target = into / STANDARD.at_frame(output, frame)
            target.parent.mkdir(parents=True, exist_ok=True)
            header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
            OpenEXR.File(header, channels).write(str(target))
        sys.stdout.write(f"frame {frame} done in {time.perf_counter() - began:.4f} s\n")
        sys.stdout.flush()


if __name__ == "__main__":
    sys.exit(main())
