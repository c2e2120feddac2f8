"""Made-up picture sequences to test a review with: clean ones of many kinds, and every kind of damage.

Pictures are arrays of shape (height, width, 3), linear light, 32-bit. All of it follows from a seed.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

WIDTH, HEIGHT = 192, 108
FRAMES = 32
# frames that a node takes at a time
BATCH = 4

Pictures = list[np.ndarray]


@dataclass(frozen=True)
class Scene:
    """The content of a clean sequence."""

    pan: float = 0.0
    """Pixels that the camera moves from frame to frame."""
    ball: float = 0.0
    """Pixels that an object moves from frame to frame."""
    noise: float = 0.05
    """Relative noise of a pixel, as of a path tracer with few samples."""
    same_noise: bool = False
    """True when the noise is the same in each frame, as with a fixed seed."""
    light: Callable[[int, np.random.Generator], float] = lambda frame, chance: 1.0
    """Brightness of a frame."""
    cut: int | None = None
    """First frame of another scene."""
    rain: int = 0
    """Streaks of rain."""
    every: int = 1
    """Frames that one drawing stands for."""
    hold: int = 0
    """Frames at the start in which nothing moves yet."""
    fireflies: int = 0
    lamp: int = 0
    """Frames for which a lamp beside the middle is on, and then off."""


def _flashing(frame: int, chance: np.random.Generator) -> float:
    return 1.6 if frame % 5 in (0, 1) else 1.0


CLEAN: dict[str, Scene] = {
    "static": Scene(),
    "static, one seed": Scene(same_noise=True),
    "static, no noise": Scene(noise=0),
    "slow pan": Scene(pan=0.4),
    "slow pan, no noise": Scene(pan=0.4, noise=0),
    "fast pan": Scene(pan=7, noise=0.08),
    "slow object": Scene(ball=0.7),
    "fast object": Scene(ball=9),
    "noisy": Scene(pan=0.8, ball=1.5, noise=0.3, fireflies=12),
    "noisy, static": Scene(noise=0.4, fireflies=6),
    "cut": Scene(pan=0.6, ball=1.0, cut=17),
    "cut, no noise": Scene(ball=1.0, cut=14, noise=0),
    "fade to black": Scene(pan=0.5, light=lambda frame, _: max(0.0, min(1.0, (26 - frame) / 12))),
    "fade in": Scene(ball=1.2, light=lambda frame, _: max(0.0, min(1.0, (frame - 3) / 10))),
    "flashing light": Scene(pan=0.5, light=_flashing),
    "lamp that flickers": Scene(ball=1.0, light=lambda frame, chance: float(chance.uniform(0.75, 1.25))),
    "rain": Scene(pan=0.4, rain=60),
    "drawn on twos": Scene(ball=3, noise=0, every=2),
    "starts to move": Scene(ball=4, hold=12),
    "starts to move, one seed": Scene(ball=4, hold=12, same_noise=True),
    "starts fast, then a cut": Scene(ball=12, hold=12, cut=22),
    "lamp on and off": Scene(noise=0.08, lamp=4),
    "sunrise": Scene(pan=0.3, light=lambda frame, _: 0.2 * 1.12**frame),
}


def _value_noise(chance: np.random.Generator, height: int, width: int, cell: int) -> np.ndarray:
    """Smooth random values from 0 to 1: shape (height, width)."""
    coarse = chance.random((height // cell + 3, width // cell + 3))
    y, x = np.arange(height) / cell, np.arange(width) / cell
    top, left = y.astype(int), x.astype(int)
    fy, fx = (y - top)[:, None], (x - left)[None, :]
    fy, fx = fy * fy * (3 - 2 * fy), fx * fx * (3 - 2 * fx)
    corner = [coarse[np.ix_(top + dy, left + dx)] for dy in (0, 1) for dx in (0, 1)]
    upper, lower = corner[0] * (1 - fx) + corner[1] * fx, corner[2] * (1 - fx) + corner[3] * fx
    return np.asarray(upper * (1 - fy) + lower * fy)


def _backdrop(seed: int, width: int, height: int) -> np.ndarray:
    """A wide scene to move a camera over."""
    chance = np.random.default_rng(seed)
    base = 0.02 + 0.6 * _value_noise(chance, height, width, 40) ** 2
    detail = 0.7 + 0.6 * _value_noise(chance, height, width, 7)
    colour = np.stack([0.4 + 0.6 * _value_noise(chance, height, width, 60) for _ in range(3)], axis=-1)
    picture = (base * detail)[..., None] * colour
    for _ in range(14):
        # boxes with hard edges
        x, y = int(chance.integers(0, width - 30)), int(chance.integers(0, height - 20))
        w, h = int(chance.integers(8, 40)), int(chance.integers(8, 40))
        picture[y : y + h, x : x + w] *= chance.uniform(0.2, 1.8, 3)
    return picture.astype(np.float32)


def _shifted(picture: np.ndarray, offset: float, width: int) -> np.ndarray:
    whole = int(np.floor(offset))
    share = offset - whole
    near = picture[:, whole : whole + width]
    return near if not share else near * (1 - share) + picture[:, whole + 1 : whole + 1 + width] * share


def truth(shot: Scene, frame: int, seed: int = 0, width: int = WIDTH, height: int = HEIGHT) -> np.ndarray:
    """Return a frame of a shot without noise. The first frame is 0."""
    scale = width / WIDTH
    drawn = max(0, frame - shot.hold) // shot.every * shot.every
    other = shot.cut is not None and frame >= shot.cut
    backdrop = _cached(seed * 2 + other, width, height)
    picture = _shifted(backdrop, drawn * shot.pan * scale, width).copy()
    if shot.ball:
        radius = height / 7
        x = (width * 0.15 + drawn * shot.ball * scale) % (width * 1.2) - width * 0.1
        y = height * (0.55 + 0.2 * np.sin(drawn * shot.ball / 40))
        rows, columns = np.mgrid[0:height, 0:width]
        distance = np.hypot(rows - y, columns - x)
        cover = np.clip(radius - distance + 0.5, 0, 1)[..., None]
        shade = np.clip(1.2 - distance / radius, 0.1, 1)[..., None]
        stripes = 0.6 + 0.4 * np.sin((columns - x + rows) / 3)[..., None]
        picture = picture * (1 - cover) + cover * shade * stripes * np.array([0.7, 0.35, 0.2])
    if shot.lamp and frame // shot.lamp % 2 == 0:
        rows, columns = np.mgrid[0:height, 0:width]
        near = np.hypot(rows - height * 0.4, columns - width * 0.7) / height
        picture = picture * (1 + 4 * np.exp(-((near / 0.25) ** 2)))[..., None]
    light = shot.light(frame, np.random.default_rng((seed, frame, 7)))
    return np.asarray(picture * light, np.float32)


_BACKDROPS: dict[tuple[int, int, int], np.ndarray] = {}


def _cached(seed: int, width: int, height: int) -> np.ndarray:
    key = (seed, width, height)
    if key not in _BACKDROPS:
        _BACKDROPS[key] = _backdrop(seed, width * 3, height)
    return _BACKDROPS[key]


def rendered(
    picture: np.ndarray, noise: float, chance: np.random.Generator, fireflies: int = 0, rain: int = 0
) -> np.ndarray:
    """Return a picture with the noise of a path tracer: relative, skewed, now and then a firefly."""
    height, width = picture.shape[:2]
    if rain:
        picture = picture.copy()
        for _ in range(rain):
            x, y = int(chance.integers(0, width)), int(chance.integers(0, height))
            picture[y : y + height // 10, x] += 0.15
    if not noise:
        return picture
    shape = 1 / noise**2
    grain = chance.gamma(shape, 1 / shape, (height, width, 1)) * (
        1 + 0.3 * noise * chance.standard_normal(picture.shape)
    )
    found = (picture * grain).astype(np.float32)
    for _ in range(fireflies):
        found[chance.integers(0, height), chance.integers(0, width)] += chance.exponential(30)
    return found


def sequence(shot: Scene, frames: int = FRAMES, seed: int = 0, width: int = WIDTH, height: int = HEIGHT) -> Pictures:
    """Return the frames of a clean sequence."""
    return [render(shot, frame, seed, width, height) for frame in range(frames)]


def render(
    shot: Scene, frame: int, seed: int = 0, width: int = WIDTH, height: int = HEIGHT, noise: float | None = None
) -> np.ndarray:
    """Return one frame. noise: another one than the shot's."""
    chance = np.random.default_rng((seed, 1, 0 if shot.same_noise else frame))
    picture = truth(shot, frame, seed, width, height)
    return rendered(picture, shot.noise if noise is None else noise, chance, shot.fireflies, shot.rain)


@dataclass(frozen=True)
class Damage:
    """One kind of damage. A strength of 1 is what a person sees at a glance, 0.5 what one sees who looks for it."""

    kind: str
    frames: tuple[int, ...]
    """Frames that are damaged."""
    inflict: Callable[[Scene, Pictures, int, float, np.random.Generator, int], np.ndarray]
    """From the shot, its clean frames, a frame's number, the strength, chance and the seed: the damaged frame."""


def _exposure(shot, clean, frame, strength, chance, seed):  # type: ignore[no-untyped-def]
    return clean[frame] * 2 ** (0.4 * strength)


def _cast(shot, clean, frame, strength, chance, seed):  # type: ignore[no-untyped-def]
    return clean[frame] * np.array([1 + 0.35 * strength, 1.0, 1 - 0.3 * strength], np.float32)


def _gamma(shot, clean, frame, strength, chance, seed):  # type: ignore[no-untyped-def]
    return np.maximum(clean[frame], 0) ** (1 - 0.3 * strength)


def _black(shot, clean, frame, strength, chance, seed):  # type: ignore[no-untyped-def]
    return np.zeros_like(clean[frame])


def _frozen(shot, clean, frame, strength, chance, seed):  # type: ignore[no-untyped-def]
    return clean[12].copy()


def _texture(shot, clean, frame, strength, chance, seed):  # type: ignore[no-untyped-def]
    found = clean[frame].copy()
    height, width = found.shape[:2]
    size = int(height * 0.32 * np.sqrt(strength))
    y, x = height // 3, width // 2
    part = found[y : y + size, x : x + size]
    shade = part.mean(axis=-1, keepdims=True) * 0.5 + 0.25
    found[y : y + size, x : x + size] = shade * np.array([1.0, 0.0, 1.0], np.float32)
    return found


def _grey(shot, clean, frame, strength, chance, seed):  # type: ignore[no-untyped-def]
    found = clean[frame].copy()
    height, width = found.shape[:2]
    size = int(height * 0.45 * np.sqrt(strength))
    found[height // 4 : height // 4 + size, width // 3 : width // 3 + size] = 0.6
    return found


def _buckets(shot, clean, frame, strength, chance, seed):  # type: ignore[no-untyped-def]
    found = clean[frame].copy()
    height, width = found.shape[:2]
    size = max(12, width // 12)
    for _ in range(max(1, round(4 * strength))):
        y, x = int(chance.integers(0, height // size)) * size, int(chance.integers(0, width // size)) * size
        found[y : y + size, x : x + size] = 0
    return found


def _rows(shot, clean, frame, strength, chance, seed):  # type: ignore[no-untyped-def]
    found = clean[frame].copy()
    found[int(len(found) * (1 - 0.3 * strength)) :] = 0
    return found


def _undersampled(shot, clean, frame, strength, chance, seed):  # type: ignore[no-untyped-def]
    height, width = clean[frame].shape[:2]
    noise = max(shot.noise, 0.03) * (1 + 1.5 * strength)
    return rendered(truth(shot, frame, seed, width, height), noise, np.random.default_rng((seed, 3, frame)))


def _denoised(shot, clean, frame, strength, chance, seed):  # type: ignore[no-untyped-def]
    height, width = clean[frame].shape[:2]
    return truth(shot, frame, seed, width, height)


def _bucket_noise(shot, clean, frame, strength, chance, seed):  # type: ignore[no-untyped-def]
    found = clean[frame].copy()
    noisy = _undersampled(shot, clean, frame, 2 + 2 * strength, chance, seed)  # type: ignore[no-untyped-call]
    height, width = found.shape[:2]
    found[: height // 3, width // 3 : 2 * width // 3] = noisy[: height // 3, width // 3 : 2 * width // 3]
    return found


def _camera(shot, clean, frame, strength, chance, seed):  # type: ignore[no-untyped-def]
    height, width = clean[frame].shape[:2]
    other = np.roll(_cached(seed * 2, width, height), -int(width * (0.3 + strength)), axis=1)[:, :width]
    return rendered(other, shot.noise, np.random.default_rng((seed, 5, frame)))


def _variant(shot, clean, frame, strength, chance, seed):  # type: ignore[no-untyped-def]
    found = clean[frame].copy()
    height, width = found.shape[:2]
    part = found[height // 5 : height // 2, width // 8 : width // 2]
    part *= np.array([1 - 0.6 * strength, 1 + 0.6 * strength, 1.0], np.float32)
    return found


def _misnumbered(shot, clean, frame, strength, chance, seed):  # type: ignore[no-untyped-def]
    return clean[(frame + len(clean) // 2) % len(clean)].copy()


def _burnt(shot, clean, frame, strength, chance, seed):  # type: ignore[no-untyped-def]
    found = clean[frame].copy()
    size = max(3, round(7 * strength))
    found[60 : 60 + size, 90 : 90 + size] = 40.0
    return found


def _invalid(shot, clean, frame, strength, chance, seed):  # type: ignore[no-untyped-def]
    found = clean[frame].copy()
    size = max(1, round(12 * strength))
    found[20 : 20 + size, 30 : 30 + size, 1] = np.nan if strength > 0.6 else np.inf
    return found


_ONE, _RUN, _TAIL = (13,), (12, 13, 14, 15), (28, 29, 30, 31)

DAMAGE: tuple[Damage, ...] = (
    Damage("exposure", _ONE, _exposure),
    Damage("exposure", _RUN, _exposure),
    Damage("exposure", _TAIL, _exposure),
    Damage("cast", _ONE, _cast),
    Damage("cast", _RUN, _cast),
    Damage("gamma", _ONE, _gamma),
    Damage("gamma", _RUN, _gamma),
    Damage("black", _ONE, _black),
    Damage("black", _RUN, _black),
    Damage("frozen", (13,), _frozen),
    Damage("frozen", (13, 14, 15), _frozen),
    Damage("texture", _ONE, _texture),
    Damage("texture", _RUN, _texture),
    Damage("grey", _ONE, _grey),
    Damage("grey", _RUN, _grey),
    Damage("buckets", _ONE, _buckets),
    Damage("buckets", _RUN, _buckets),
    Damage("burnt", _ONE, _burnt),
    Damage("burnt", _RUN, _burnt),
    Damage("rows", _ONE, _rows),
    Damage("rows", _RUN, _rows),
    Damage("undersampled", _ONE, _undersampled),
    Damage("undersampled", _RUN, _undersampled),
    Damage("denoised", _ONE, _denoised),
    Damage("bucket noise", _ONE, _bucket_noise),
    Damage("camera", _ONE, _camera),
    Damage("camera", _RUN, _camera),
    Damage("camera", _TAIL, _camera),
    Damage("variant", _ONE, _variant),
    Damage("variant", _RUN, _variant),
    Damage("misnumbered", _ONE, _misnumbered),
    Damage("invalid", _ONE, _invalid),
)


def damaged(damage: Damage, shot: Scene, clean: Sequence[np.ndarray], strength: float = 1.0, seed: int = 0) -> Pictures:
    """Return a sequence with some of its frames damaged."""
    found = list(clean)
    for frame in damage.frames:
        chance = np.random.default_rng((seed, 11, frame))
        found[frame] = np.asarray(damage.inflict(shot, list(clean), frame, strength, chance, seed), np.float32)
    return found


def jumps(shot: Scene, frames: int = FRAMES, batch: int = 8, by: int = 3, seed: int = 0) -> tuple[Pictures, set[int]]:
    """Return a sequence whose motion starts again with each batch, and the frames at which it jumps."""
    found = [render(shot, frame + (frame // batch % 2) * by, seed) for frame in range(frames)]
    return found, set(range(batch, frames, batch))
