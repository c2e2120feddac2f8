"""Frames against their neighbours: every kind of damage is found, and nothing is said of clean sequences."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
import OpenEXR
import pytest

from tidy_crate.core.context.review_rules import ReviewRules
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.crate.packing import read_packing_list
from tidy_crate.core.crate.test_frames import TestFrame, keep_test_frames
from tidy_crate.core.picture.block import Block
from tidy_crate.core.picture.decode import Form
from tidy_crate.core.picture.judge import Expected, Judgement, judge_blocks, judge_file
from tidy_crate.core.picture.look import Look, look_at
from tidy_crate.core.picture.readers import FrameReaders
from tidy_crate.core.review.folder import review_folder
from tidy_crate.core.review.here import compare, signs_from_here
from tidy_crate.core.review.neighbours import Neighbours
from tidy_crate.core.review.rendered import Rendered
from tidy_crate.core.review.sequence import explained, signs_of
from tidy_crate.core.review.shot import Shot
from tidy_crate.core.review.sign import Kind, Sign, Weight
from tidy_crate.core.review.times import time_signs
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.task import Task
from tidy_crate.practice.demo.scene import write_demo_scene
from tidy_crate.practice.render.renderer import Order, render
from tidy_crate.practice.sequences import CLEAN, DAMAGE, Damage, Scene, damaged, jumps, sequence
from tidy_crate.practice.sequences import render as render_frame

RULES = ReviewRules()
_LOOKS: dict[int, tuple[np.ndarray, Look]] = {}


def look(picture: np.ndarray) -> Look:
    # the picture is kept too, so that its number stays its own
    if id(picture) not in _LOOKS:
        found = look_at(np.ascontiguousarray(np.moveaxis(picture, -1, 0)).copy())
        assert found is not None
        _LOOKS[id(picture)] = picture, found
    return _LOOKS[id(picture)][1]


def measured(pictures: Sequence[np.ndarray]) -> Neighbours:
    found = Neighbours(1)
    for frame, picture in enumerate(pictures):
        found.add(frame, look(picture))
    return found


def signs(pictures: Sequence[np.ndarray]) -> dict[int, list[Sign]]:
    """All signs that make a frame suspect or bad."""
    found = signs_of(measured(pictures).found, RULES)
    told = {frame: [one for one in own if one.weight is not Weight.NOTE] for frame, own in found.items()}
    return {frame: own for frame, own in told.items() if own}


@pytest.mark.parametrize("name", CLEAN)
def test_f3_nothing_is_said_of_a_clean_sequence(name: str) -> None:
    assert signs(sequence(CLEAN[name], seed=4)) == {}


@pytest.fixture(scope="module")
def shots() -> dict[str, tuple[Scene, list[np.ndarray]]]:
    names = ("static", "slow object", "noisy")
    return {name: (CLEAN[name], sequence(CLEAN[name], seed=1)) for name in names}


# the same picture from another number is no damage where nothing moves
SEEN = [one for one in DAMAGE if one.kind not in ("invalid", "misnumbered")]


@pytest.mark.parametrize("damage", SEEN, ids=lambda one: f"{one.kind}-{one.frames[0]}-{len(one.frames)}")
def test_f3_every_kind_of_damage_is_found_where_it_is(
    damage: Damage, shots: dict[str, tuple[Scene, list[np.ndarray]]]
) -> None:
    for name, (shot, clean) in shots.items():
        found = signs(damaged(damage, shot, clean, strength=1.0, seed=1))
        assert set(found) == set(damage.frames), name


def test_f3_a_wrong_number_is_found_where_something_moves() -> None:
    damage = next(one for one in DAMAGE if one.kind == "misnumbered")
    shot = CLEAN["slow pan"]
    assert set(signs(damaged(damage, shot, sequence(shot, seed=1), seed=1))) == set(damage.frames)


@pytest.mark.parametrize("kind", ["camera", "black", "buckets", "texture", "exposure"])
def test_f3_the_kind_of_damage_is_named(kind: str, shots: dict[str, tuple[Scene, list[np.ndarray]]]) -> None:
    shot, clean = shots["static"]
    damage = next(one for one in DAMAGE if one.kind == kind)
    kinds = {one.kind for one in signs(damaged(damage, shot, clean, seed=1))[damage.frames[0]]}
    expected = {
        "camera": Kind.PICTURE, "black": Kind.LEVEL, "buckets": Kind.FLAT, "texture": Kind.VIVID, "exposure": Kind.LEVEL
    }  # fmt: skip
    assert expected[kind] in kinds


def test_f3_a_burnt_bucket_is_found_in_the_fastest_motion() -> None:
    burnt = next(one for one in DAMAGE if one.kind == "burnt")
    shot = CLEAN["fast pan"]
    found = signs(damaged(burnt, shot, sequence(shot, seed=1), seed=1))
    assert set(found) == set(burnt.frames)
    assert Kind.HIGHLIGHT in {one.kind for one in found[burnt.frames[0]]}


@pytest.mark.parametrize("passes", [range(10, 13), range(20, 26)])
def test_f3_a_small_lamp_that_something_passes_in_front_of_and_a_glint_are_not_suspect(passes: range) -> None:
    pictures = sequence(CLEAN["slow pan"], seed=3)
    for lit in (True, False):
        with_lamp = [picture.copy() for picture in pictures]
        for frame, picture in enumerate(with_lamp):
            if (frame in passes) is not lit:
                picture[40:44, 60:64] = 80.0
        assert signs(with_lamp) == {}


def test_f3_a_lamp_that_goes_on_and_off_with_the_batches_is_suspect() -> None:
    pictures = sequence(CLEAN["lamp on and off"], seed=4)
    told = signs_of(measured(pictures).found, RULES)
    assert any("part of the shot" in one.text for own in told.values() for one in own)
    by_node = {frame: Rendered(f"n{frame // 4 % 2}", 1, 1.0, begins=frame % 4 == 0) for frame in range(len(pictures))}
    with_nodes = signs_of(measured(pictures).found, RULES, by_node)
    assert any(one.weight is Weight.SUSPECT for own in with_nodes.values() for one in own)


def test_f3_motion_that_starts_anew_with_each_batch_jumps_there_and_nowhere_else() -> None:
    pictures, expected = jumps(Scene(ball=2.0, noise=0.05), by=6, seed=2)
    assert set(signs(pictures)) == expected


def test_f3_what_is_explained_of_a_good_frame_in_fast_motion_is_within_its_limits() -> None:
    found = measured(sequence(Scene(ball=6, hold=25), seed=4)).found
    noted = set(signs_of(found, RULES))
    for frame in set(found.frames) - noted:
        steps = [one for one in explained(found, RULES, frame) if one.kind is Kind.JUMP]
        assert not any(one.over for one in steps), frame


def test_f3_the_measures_of_a_frame_can_be_read() -> None:
    pictures = list(sequence(CLEAN["slow pan"], seed=1))
    pictures[9] = pictures[9] * np.float32(1.5)
    figures = {(one.kind, one.what): one for one in explained(measured(pictures).found, RULES, 9)}
    level = figures[Kind.LEVEL, "apart from both sides"]
    assert level.over and 0.3 < level.figure < 0.6 and level.limit >= RULES.brightness
    assert explained(measured(pictures).found, RULES, 999) == ()


def test_f3_limits_come_from_the_rules() -> None:
    pictures = list(sequence(CLEAN["static"], seed=1))
    pictures[9] = pictures[9] * np.float32(1.08)
    assert 9 in signs_of(measured(pictures).found, RULES)
    lenient = ReviewRules(brightness=0.5, picture=0.5, part=2.0, jump=0.5)
    assert signs_of(measured(pictures).found, lenient) == {}


def shot_of(pictures: Sequence[np.ndarray], nodes: dict[int, Rendered]) -> Shot:
    """A shot with its signs known, as a review makes it."""
    found = Shot(1, RULES)
    for frame, picture in enumerate(pictures):
        judged = Judgement(verdict=Verdict.GOOD, form=Form(), seen=look(picture).to_json())
        found.add(frame, judged, nodes.get(frame))
    found.signs()
    return found


def test_f3_a_node_whose_frames_all_differ_is_named() -> None:
    pictures = list(sequence(CLEAN["lamp that flickers"], seed=3))
    nodes = {frame: Rendered(f"n{frame % 4}", 1, 10.0) for frame in range(len(pictures))}
    assert shot_of(pictures, nodes).groups == ()
    for frame in range(2, len(pictures), 4):
        pictures[frame] = pictures[frame] * np.float32(0.6)
    (group,) = shot_of(pictures, nodes).groups
    assert group.cause == "n2" and set(group.frames) == set(range(2, len(pictures), 4))


def test_f3_a_frame_that_took_far_longer_or_shorter_is_noted() -> None:
    frames = [(frame, Rendered("n", 1, 10.0 + frame % 3)) for frame in range(20)]
    assert list(time_signs(frames, RULES)) == []
    frames[5], frames[9] = (5, Rendered("n", 1, 90.0)), (9, Rendered("n", 1, 1.0))
    assert [(frame, sign.weight) for frame, sign in time_signs(frames, RULES)] == [(5, Weight.NOTE), (9, Weight.NOTE)]


def test_f9_frames_of_a_farm_are_compared_with_those_rendered_here(tmp_path: Path) -> None:
    scene, size = CLEAN["noisy"], (192 * 108, 192 * 108)
    one, other = sequence(scene, frames=1, seed=1)[0], render_frame(scene, 0, seed=1, noise=0.2)
    assert not compare(look(one), look(other), size).differs
    assert compare(look(one), look((other * 1.2).astype(np.float32)), size).differs
    box = other.copy()
    box[20:50, 40:90] = 0.7
    assert compare(look(one), look(box), size).differs
    small = other.reshape(54, 2, 96, 2, 3).mean(axis=(1, 3)).astype(np.float32)
    assert not compare(look(one), look(small), (192 * 108, 96 * 54)).differs

    crate, frames = tmp_path / "x.crate", {}
    for frame, factor in ((1, 1.0), (2, 1.4)):
        (tmp_path / f"x.probe/frames/{frame}").mkdir(parents=True)
        exr(tmp_path / f"x.probe/frames/{frame}/a.exr", one)
        exr(tmp_path / f"{frame}.exr", (other * factor).astype(np.float32))
        frames[(Task("main", frame).key, "Beauty")] = tmp_path / f"{frame}.exr"
    keep_test_frames(
        crate,
        [
            TestFrame(
                request="main", frame=frame, width=192, height=108, samples=4, by="probe", contents="c",
                files={"Beauty": f"frames/{frame}/a.exr"},
            )
            for frame in (1, 2)
        ],
    )  # fmt: skip
    with FrameReaders(1) as readers:
        found = {task[2]: sign for task, _, sign in signs_from_here(crate, "c", frames, readers)}
        assert list(signs_from_here(crate, "another", frames, readers)) == []
    assert found[1].weight is Weight.NOTE and "agrees" in found[1].text
    assert found[2].weight is Weight.SUSPECT and "+0." in found[2].text


def exr(path: Path, picture: np.ndarray) -> None:
    planes = {name: np.ascontiguousarray(picture[..., at], np.float32) for at, name in enumerate("RGB")}
    OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}, planes).write(str(path))


FRAMES = range(1013, 1033)


def render_in_batches(scene: Path, into: Path, batch: int) -> Path:
    """Render as nodes would that take so many frames at a time, each with no other past."""
    for first in FRAMES[::batch]:
        frames = tuple(frame for frame in range(first, first + batch) if frame in FRAMES)
        tasks = tuple(Task("main", frame) for frame in frames)
        order = Order(scene, tasks, into, width=160, height=90, samples=1, outputs=("Beauty",))
        render(order, lambda done: None)
    return into


def suspects(folder: Path, batch: int) -> set[int]:
    shot = Shot(1, RULES)
    for path in sorted(folder.rglob("*.exr")):
        frame = int(path.stem.split(".")[-1])
        begins = (frame - FRAMES.start) % batch == 0
        shot.add(frame, judge_file(path, Expected()), Rendered("", 1, None, begins))
    found = shot.signs()
    return {frame for frame, own in found.items() if any(one.weight is not Weight.NOTE for one in own)}


@pytest.mark.parametrize("batch", [2, 5])
def test_f3_unbaked_the_picture_jumps_where_batches_meet_and_baked_it_does_not(
    packed: tuple[SceneContext, Path], tmp_path: Path, batch: int
) -> None:
    meet = set(FRAMES[batch::batch])
    live = write_demo_scene(tmp_path / "show").scene
    unbaked = suspects(render_in_batches(live, tmp_path / "unbaked", batch), batch)
    # each batch begins again, so that all of its frames are wrong; where it begins is what shows most
    assert len(unbaked & meet) >= len(meet) / 2
    crate = packed[1]
    baked = render_in_batches(crate / read_packing_list(crate).scene, tmp_path / "baked", batch)
    assert suspects(baked, batch) == set()


def write(folder: Path, levels: dict[int, float], **more: float) -> Path:
    """Plain frames of some brightness with a texture, as OpenEXR."""
    folder.mkdir(exist_ok=True)
    texture = 0.8 + 0.4 * np.random.default_rng(1).random((36, 64))
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    for frame, level in levels.items():
        noise = 1 + 0.02 * np.random.default_rng(frame + 5).standard_normal((36, 64))
        plane = (level * texture * noise).astype(np.float16)
        channels = dict.fromkeys("RGB", plane) | {name: np.full_like(plane, value) for name, value in more.items()}
        OpenEXR.File(header, channels).write(str(folder / f"x.{frame:04d}.exr"))
    return folder


def verdicts(folder: Path, **more: object) -> dict[int, str]:
    frames = review_folder(folder, None, **more).frames  # type: ignore[arg-type]
    return {one.frame: one.verdict.value for one in frames if one.verdict is not Verdict.GOOD}


def test_f3_a_black_frame_is_bad_unless_the_picture_fades_or_it_is_meant(tmp_path: Path) -> None:
    levels = dict.fromkeys(range(1, 21), 0.3)
    fade = levels | {frame: max(0.0, 0.3 * (16 - frame) / 8) for frame in range(8, 21)}
    assert verdicts(write(tmp_path / "fade", fade)) == {}
    single = write(tmp_path / "single", levels | {7: 0.0})
    assert verdicts(single) == {7: "bad"}
    assert verdicts(single, meant=[7]) == {}
    assert verdicts(single, rules=ReviewRules(meant="7")) == {}
    assert verdicts(write(tmp_path / "all", dict.fromkeys(levels, 0.0))) == dict.fromkeys(levels, "bad")


def test_f3_a_frame_of_another_form_and_an_empty_pass_stand_out(tmp_path: Path) -> None:
    levels = dict.fromkeys(range(1, 13), 0.3)
    folder = write(tmp_path / "frames", levels, A=1.0, Z=4.0)
    assert verdicts(folder) == {}
    write(folder, {5: 0.3}, A=1.0)
    write(folder, {8: 0.3}, A=0.0, Z=4.0)
    plane = np.full((20, 40), 0.3, np.float16)
    OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION}, dict.fromkeys("RGBAZ", plane)).write(
        str(folder / "x.0010.exr")
    )
    found = {one.frame: one for one in review_folder(folder, None).frames if one.verdict is not Verdict.GOOD}
    assert {frame: one.verdict.value for frame, one in found.items()} == {5: "bad", 8: "suspect", 10: "bad"}
    assert "lacks Z" in found[5].reasons[0] and "A is 0 all over" in found[8].reasons[0]
    assert "it is 40 x 20, not 64 x 36" in found[10].reasons[0]


def test_s11_separate_views_are_not_compared(tmp_path: Path) -> None:
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    for frame in range(1, 13):
        coarse = np.random.default_rng(frame).random((9, 16)).astype(np.float16)
        plane = np.repeat(np.repeat(coarse, 4, axis=0), 4, axis=1)
        OpenEXR.File(header, dict.fromkeys("RGB", plane)).write(str(tmp_path / f"v.{frame:04d}.exr"))
    frames = review_folder(tmp_path, None).frames
    assert {one.verdict for one in frames} == {Verdict.GOOD} and "neighbours" in frames[0].unchecked


def test_a_picture_has_a_look_unless_it_is_too_small() -> None:
    def seen(**channels: np.ndarray) -> Look | None:
        height, width = next(iter(channels.values())).shape
        return judge_blocks(width, height, [Block(0, width, height, channels)], Expected()).look

    plane = np.ones((36, 64), np.float32)
    found = seen(R=plane, G=plane, B=plane * 0)
    assert found is not None and found.cells.shape == (18, 32, 3) and found.flat.all()
    again = Look.from_json(found.to_json())
    assert again.mark == found.mark and np.array_equal(again.flat, found.flat)
    assert seen(A=plane) is not None and seen(R=plane[:4]) is None
    invalid = seen(R=plane * np.nan)
    assert invalid is not None and invalid.level == 0


def test_f3_two_sequences_in_one_folder_are_judged_apart(tmp_path: Path) -> None:
    write(tmp_path, dict.fromkeys(range(1, 11), 0.3))
    for frame in range(1, 11):
        (tmp_path / f"x.{frame:04d}.exr").rename(tmp_path / f"dusk_v2.{frame:04d}.exr")
    write(tmp_path, dict.fromkeys(range(1, 11), 1.9))
    frames = review_folder(tmp_path, None).frames
    assert {one.verdict for one in frames} == {Verdict.GOOD}
    assert [(one.output, one.frame) for one in frames] == [
        (name, frame) for name in ("dusk_v2", "x") for frame in range(1, 11)
    ]
