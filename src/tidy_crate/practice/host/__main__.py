"""The practice host's command line: `python -m tidy_crate.practice.host export|relink|render ...`."""

from __future__ import annotations

import argparse
import json
import sys
import time
from pathlib import Path

from tidy_crate.practice.host.scene import HostScene, load, save

VERSION = "3.2"


def main() -> int:
    """Run one command."""
    parser = argparse.ArgumentParser(prog="practice-host", description="Exports, relinks and renders its own scenes.")
    commands = parser.add_subparsers(dest="command", required=True)
    export = commands.add_parser("export", help="write a scene sheet")
    export.add_argument("scene", type=Path)
    export.add_argument("sheet", type=Path)
    relink = commands.add_parser("relink", help="take other paths for some slots")
    relink.add_argument("scene", type=Path)
    relink.add_argument("paths", type=Path)
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
            scene.textures |= json.loads(words.paths.read_text(encoding="utf-8"))
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
        "motion": "things",
        "commands": {
            "relink": [*host, "relink", "{host_scene}", "{paths}"],
            "export": [*host, "export", "{host_scene}", "{sheet}"],
            "render": {
                "command": [*host, "render", "{host_scene}", "--frames", "{frames}", "--into", "{output_folder}"],
                "frame_done": r"frame (?P<frame>-?\d+) done in (?P<seconds>[\d.]+) s",
                "basis": "practice",
                "name": "practice host",
                "version": VERSION,
            },
        },
    }


def render_frames(path: Path, scene: HostScene, frames: str, into: Path) -> None:
    """Render: bands of the textures' mean colours that move from frame to frame. A missing texture is an error."""
    import numpy as np
    import OpenEXR
    from PIL import Image

    from tidy_crate.core.asset.frames import parse_frames
    from tidy_crate.core.asset.sequences import at_frame

    tones = []
    for texture in scene.textures.values():
        with Image.open(path.parent / texture) as image:
            tones.append(np.asarray(image.convert("RGB"), np.float32).mean(axis=(0, 1)) / 255)
    width, height = scene.size
    for frame in parse_frames(frames):
        began = time.perf_counter()
        band = ((np.arange(width) + 4 * frame) // 40) % max(1, len(tones))
        row = np.asarray(tones or [[0.5, 0.5, 0.5]], np.float32)[band]
        channels = {c: np.repeat(row[None, :, i], height, axis=0).astype(np.float16) for i, c in enumerate("RGB")}
        for output in scene.outputs.values():
            target = into / at_frame(output, frame)
            target.parent.mkdir(parents=True, exist_ok=True)
            header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
            OpenEXR.File(header, channels).write(str(target))
        sys.stdout.write(f"frame {frame} done in {time.perf_counter() - began:.4f} s\n")
        sys.stdout.flush()


if __name__ == "__main__":
    sys.exit(main())
