"""Jumps: where one batch ends and the next begins, unless everything is baked."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import OpenEXR
import pytest

from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.crate.packing import read_packing_list
from tidy_crate.core.picture.block import Block
from tidy_crate.core.picture.judge import Expected, judge_blocks, judge_file
from tidy_crate.core.review.neighbours import jumps
from tidy_crate.core.review.run import review_folder
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.task import Task
from tidy_crate.practice.demo.scene import write_demo_scene
from tidy_crate.practice.render.renderer import Order, render

FRAMES = range(1013, 1033)


def render_in_batches(scene: Path, into: Path, batch: int) -> dict[int, tuple[float, ...]]:
    """Render as nodes would that take so many frames at a time, each with no other past."""
    for first in FRAMES[::batch]:
        frames = tuple(frame for frame in range(first, first + batch) if frame in FRAMES)
        tasks = tuple(Task("main", frame) for frame in frames)
        order = Order(scene, tasks, into, width=160, height=90, samples=1, outputs=("Beauty",))
        render(order, lambda done: None)
    return {int(path.stem.split(".")[-1]): judge_file(path, Expected()).look for path in into.rglob("*.exr")}


@pytest.mark.parametrize("batch", [2, 5])
def test_f3_unbaked_the_picture_jumps_where_batches_meet_and_baked_it_does_not(
    packed: tuple[SceneContext, Path], tmp_path: Path, batch: int
) -> None:
    meet = set(FRAMES[batch::batch])
    live = write_demo_scene(tmp_path / "show").scene
    unbaked = jumps(render_in_batches(live, tmp_path / "unbaked", batch))
    assert set(unbaked) <= meet and len(unbaked) >= len(meet) / 2
    crate = packed[1]
    baked = render_in_batches(crate / read_packing_list(crate).scene, tmp_path / "baked", batch)
    assert jumps(baked) == {} and len(baked) == len(FRAMES)


def looks(values: dict[int, float]) -> dict[int, tuple[float, ...]]:
    return {frame: (value, 0.0) for frame, value in values.items()}


def test_a_jump_stands_out_from_the_steps_on_both_sides() -> None:
    even = {frame: 0.1 * frame for frame in range(1, 11)}
    assert jumps(looks(even)) == {}
    assert set(jumps(looks({f: v + (f >= 6) for f, v in even.items()}))) == {6}
    # faster and faster is no jump, nor is what nobody sees, nor a step beside a gap
    assert jumps(looks({frame: 1.3**frame for frame in range(1, 15)})) == {}
    assert jumps(looks({f: 1e-4 * v + 1e-3 * (f >= 6) for f, v in even.items()})) == {}
    assert jumps(looks({f: v + (f >= 6) for f, v in even.items() if f != 7})) == {}
    # every fifth frame only
    assert set(jumps(looks({5 * f: v + (f >= 6) for f, v in even.items()}))) == {30}
    assert jumps({}) == {} and jumps(looks({1: 0.0})) == {}


def test_a_jump_is_one_to_look_at_and_a_bad_frame_makes_none_of_its_neighbours(tmp_path: Path) -> None:
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    for frame in range(1, 13):
        level = 0.0 if frame == 4 else 0.2 + 0.01 * frame + (0.4 if frame >= 9 else 0.0)
        plane = np.full((36, 64), level, np.float16)
        OpenEXR.File(header, dict.fromkeys("RGB", plane)).write(str(tmp_path / f"x.{frame:04d}.exr"))
    found = {one.frame: one for one in review_folder(tmp_path, None).frames if one.verdict is not Verdict.GOOD}
    assert {frame: one.verdict.value for frame, one in found.items()} == {4: "bad", 9: "suspect"}
    assert "jumps from the frame before" in found[9].reasons[0]


def test_a_picture_without_colour_or_too_small_has_no_look() -> None:
    def look(**channels: np.ndarray) -> tuple[float, ...]:
        height, width = next(iter(channels.values())).shape
        return judge_blocks(width, height, [Block(0, width, height, channels)], Expected()).look

    plane = np.ones((36, 64), np.float32)
    assert len(look(R=plane)) == 18 * 32
    assert look(A=plane) == () and look(R=plane[:4]) == ()
    assert np.isfinite(look(R=plane * np.nan)).all()
