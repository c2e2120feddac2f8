"""The practice host's scene: a line per thing, words apart by spaces, quoted where they hold some.

quay 1
frames 1 24 25
size 320 180
camera Lens
output Beauty renders/beauty.####.exr
texture wood "textures/wood side.png"
simulation buoy spring -9
cache buoy caches/buoy.####.json
generator sign text
frozen sign
"""

from __future__ import annotations

import shlex
from dataclasses import dataclass, field
from pathlib import Path


@dataclass
class HostScene:
    """A scene of the practice host."""

    frames: tuple[int, int, float] = (1, 1, 25.0)
    """First, last, frames per second."""
    size: tuple[int, int] = (320, 180)
    camera: str = "Lens"
    outputs: dict[str, str] = field(default_factory=dict)
    """Path by name."""
    textures: dict[str, str] = field(default_factory=dict)
    """Path by slot."""
    simulations: dict[str, tuple[str, int]] = field(default_factory=dict)
    """Kind and first frame by name."""
    caches: dict[str, str] = field(default_factory=dict)
    """Path of each cache. A simulation without one is solved again."""
    generators: dict[str, str] = field(default_factory=dict)
    """Kind by name."""
    frozen: list[str] = field(default_factory=list)
    """Generators that are plain data."""


def load(path: Path) -> HostScene:
    """Read a scene. Raises ValueError on anything that is none."""
    lines = [shlex.split(line) for line in path.read_text(encoding="utf-8").splitlines() if line.strip()]
    if not lines or lines[0] != ["quay", "1"]:
        raise ValueError("not a scene of this program")
    scene = HostScene()
    for words in lines[1:]:
        match words:
            case ["frames", first, last, rate]:
                scene.frames = (int(first), int(last), float(rate))
            case ["size", width, height]:
                scene.size = (int(width), int(height))
            case ["camera", name]:
                scene.camera = name
            case ["output", name, output]:
                scene.outputs[name] = output
            case ["texture", slot, texture]:
                scene.textures[slot] = texture
            case ["simulation", name, kind, start]:
                scene.simulations[name] = kind, int(start)
            case ["cache", name, cache]:
                scene.caches[name] = cache
            case ["generator", name, kind]:
                scene.generators[name] = kind
            case ["frozen", name]:
                scene.frozen.append(name)
            case _:
                raise ValueError(f"not understood: {shlex.join(words)}")
    return scene


def save(path: Path, scene: HostScene) -> None:
    """Write a scene."""
    first, last, rate = scene.frames
    lines = [
        ["quay", "1"],
        ["frames", str(first), str(last), f"{rate:g}"],
        ["size", *map(str, scene.size)],
        ["camera", scene.camera],
        *(["output", name, output] for name, output in scene.outputs.items()),
        *(["texture", slot, texture] for slot, texture in scene.textures.items()),
        *(["simulation", name, kind, str(start)] for name, (kind, start) in scene.simulations.items()),
        *(["cache", name, cache] for name, cache in scene.caches.items()),
        *(["generator", name, kind] for name, kind in scene.generators.items()),
        *(["frozen", name] for name in scene.frozen),
    ]
    path.write_text("".join(shlex.join(words) + "\n" for words in lines), encoding="utf-8", newline="\n")
