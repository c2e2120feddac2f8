"""Passes beside the colour; and rows of two frames, edges of tiles, shifts, frames of another number."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence

import numpy as np
import pytest

from tidy_crate.core.context.review_rules import ReviewRules
from tidy_crate.core.picture.block import Block
from tidy_crate.core.picture.decode import Form
from tidy_crate.core.picture.judge import Expected, judge_blocks
from tidy_crate.core.picture.pass_look import PassLook
from tidy_crate.core.review.rendered import Rendered
from tidy_crate.core.review.shot import Shot
from tidy_crate.core.review.sign import Kind, Sign, Weight
from tidy_crate.practice.sequences import CLEAN, sequence

COUNT, HEIGHT, WIDTH = 32, 108, 192
Channels = dict[str, np.ndarray]


def frame(number: int, speed: float, chance: np.random.Generator) -> Channels:
    """Blocks at several depths that a camera passes, with a ball that rolls in front of them."""
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH].astype(np.float32)
    along = x + speed * number
    objects = np.where(y < 24, 0, (along // 24) % 7 + 1).astype(np.uint32)
    depth = np.where(objects == 0, np.inf, 3 + objects * 2 + 0.01 * y).astype(np.float32)
    normal = np.stack([np.sin(along / 40), np.cos(y / 30), np.full_like(x, 0.5)])
    colour = (0.2 + 0.1 * np.sin(along / 7) + 0.05 * objects) * (1 + chance.normal(0, 0.05, (HEIGHT, WIDTH)))
    motion = np.full((HEIGHT, WIDTH), speed, np.float32)
    ball = (x - 20 - 4 * number) ** 2 + (y - 60) ** 2 < 300
    colour[ball], depth[ball], objects[ball], motion[ball] = 0.7, 2, 99, 4
    channels = {"R": colour, "G": 0.9 * colour, "B": 0.7 * colour, "depth.Z": depth, "motion.x": motion}
    channels |= {f"normal.{name}": plane for name, plane in zip("XYZ", normal, strict=True)}
    return {name: plane.astype(np.float32) for name, plane in channels.items()} | {"id.id": objects}


def far(channels: Channels) -> None:
    channels["depth.Z"] = channels["depth.Z"] * 1.5


def hole(channels: Channels) -> None:
    channels["depth.Z"][48:72, 96:120] = 0


def renumbered(channels: Channels) -> None:
    channels["id.id"] = channels["id.id"] + np.uint32(1)


def turned(channels: Channels) -> None:
    channels["motion.x"] = -channels["motion.x"]


FAULTS: dict[str, tuple[Callable[[Channels], None], str]] = {
    "depth": (far, "depth"), "part of it": (hole, "depth"), "numbers": (renumbered, "id"), "motion": (turned, "motion"),
}  # fmt: skip


def review(
    speed: float, fault: Callable[[Channels], None] | None, bad: Collection[int], nodes: Sequence[str] = ()
) -> tuple[dict[int, list[Sign]], Shot]:
    chance, shot = np.random.default_rng(1), Shot(1, ReviewRules())
    for number in range(COUNT):
        channels = frame(number, speed, chance)
        if fault is not None and number in bad:
            fault(channels)
        judged = judge_blocks(WIDTH, HEIGHT, [Block(0, WIDTH, HEIGHT, channels)], Expected())
        form = Form(width=WIDTH, height=HEIGHT, channels=dict.fromkeys(channels, "float"))
        shot.add(number, judged.model_copy(update={"form": form}), Rendered(node=nodes[number]) if nodes else None)
    return odd(shot), shot


def odd(shot: Shot) -> dict[int, list[Sign]]:
    found = {number: [one for one in own if one.weight is not Weight.NOTE] for number, own in shot.signs().items()}
    return {number: own for number, own in found.items() if own}


@pytest.mark.parametrize("speed", [0.0, 2.0, 7.0])
def test_f9_passes_of_a_clean_shot_are_good_however_fast_it_moves(speed: float) -> None:
    assert review(speed, None, ())[0] == {}


@pytest.mark.parametrize("name", FAULTS)
@pytest.mark.parametrize("speed", [2.0, 7.0])
def test_f9_a_pass_that_is_off_in_one_frame_is_found_where_the_picture_is_right(name: str, speed: float) -> None:
    fault, words = FAULTS[name]
    found, _ = review(speed, fault, {17})
    assert set(found) == {17} and [one.kind for one in found[17]] == [Kind.PASS]
    assert found[17][0].text.startswith(words)


@pytest.mark.parametrize("name", FAULTS)
def test_f9_a_machine_whose_passes_are_off_is_named(name: str) -> None:
    fault, words = FAULTS[name]
    nodes = [f"node-{number * 7 // 3 % 3}" for number in range(COUNT)]
    bad = {number for number in range(COUNT) if nodes[number] == "node-1"}
    found, shot = review(2.0, fault, bad, nodes)
    assert [one.cause for one in shot.groups] == ["node-1"] and shot.groups[0].text.startswith(words)
    assert set(found) == bad


def test_f9_passes_that_are_off_in_every_fourth_frame_are_no_part_of_the_shot() -> None:
    bad = set(range(3, COUNT, 4))
    assert all(set(review(2.0, FAULTS[name][0], bad)[0]) == bad for name in ("part of it", "numbers"))


def test_the_look_of_a_pass_survives_being_written_down_and_names_hold_anything() -> None:
    channels = frame(1, 2.0, np.random.default_rng(1)) | {"a{b}.Z": np.zeros((HEIGHT, WIDTH), np.float32)}
    judged = judge_blocks(WIDTH, HEIGHT, [Block(0, WIDTH, HEIGHT, channels)], Expected())
    looks = judged.passes
    assert set(looks) == {"depth", "motion", "normal", "id", "a{b}"}
    assert looks["normal"].values.shape == (9, 16, 3) and sum(looks["id"].shares.values()) == pytest.approx(1, abs=1e-4)
    for one in looks.values():
        again = PassLook.from_json(one.to_json())
        assert again.shares == one.shares and np.array_equal(again.values, one.values)
    # infinite depth is a place that no ray came back from, and no number that spoils a mean
    assert np.isfinite(looks["depth"].values).all()


def test_f9_a_pass_of_any_name_is_reported_under_it() -> None:
    def renamed(channels: Channels) -> None:
        channels["a{b}.Z"] = channels.pop("depth.Z") * 1.5

    chance, shot = np.random.default_rng(1), Shot(1, ReviewRules())
    for number in range(COUNT):
        channels = frame(number, 0.0, chance)
        channels["a{b}.Z"] = channels.pop("depth.Z") * (1.5 if number % 3 == 1 else 1)
        judged = judge_blocks(WIDTH, HEIGHT, [Block(0, WIDTH, HEIGHT, channels)], Expected())
        shot.add(number, judged.model_copy(update={"form": Form()}), Rendered(node=f"node-{number % 3}"))
    shot.signs()
    assert [one.text.partition(":")[0] for one in shot.groups] == ["a{b}"]


def pictures(name: str) -> list[np.ndarray]:
    return [np.asarray(one, np.float32) for one in sequence(CLEAN[name], COUNT, seed=11)]


def reviewed(own: Sequence[np.ndarray]) -> dict[int, list[Sign]]:
    shot = Shot(1, ReviewRules())
    for number, picture in enumerate(own):
        height, width, _ = picture.shape
        block = Block(0, width, height, {name: picture[..., at].copy() for at, name in enumerate("RGB")})
        shot.add(number, judge_blocks(width, height, [block], Expected()).model_copy(update={"form": Form()}))
    return odd(shot)


@pytest.mark.parametrize("name", ["slow pan", "slow pan, no noise", "noisy", "fast object", "static"])
def test_a5_edges_of_tiles_and_rows_of_two_frames_are_found(name: str) -> None:
    clean = pictures(name)
    lined = clean[15].copy()
    lined[16::16] *= 0.5
    lined[:, 16::16] *= 0.5
    found = reviewed([*clean[:15], lined, *clean[16:]])
    assert set(found) == {15} and Kind.LINES in {one.kind for one in found[15]}
    woven = clean[15].copy()
    woven[1::2] = np.roll(clean[15], 6, axis=1)[1::2]
    found = reviewed([*clean[:15], woven, *clean[16:]])
    assert set(found) == {15}


def test_a5_a_shift_of_some_pixels_is_found_while_the_camera_moves() -> None:
    clean = pictures("slow pan")
    assert reviewed(clean) == {}
    for run in (range(15, 16), range(14, 18)):
        found = reviewed([np.roll(one, 4, axis=1) if at in run else one for at, one in enumerate(clean)])
        assert set(found) == set(run) and {one.kind for own in found.values() for one in own} <= {
            Kind.SHIFT, Kind.PICTURE, Kind.PART, Kind.COLOUR,
        }  # fmt: skip


@pytest.mark.parametrize("off", [-2, 2])
def test_a5_a_frame_of_another_number_is_found_by_its_last_pixel(off: int) -> None:
    clean = pictures("slow pan, no noise")
    found = reviewed([clean[at + off] if at == 15 else one for at, one in enumerate(clean)])
    assert 15 in found and set(found) <= {14, 15, 16}


def test_a3_a_wall_that_fills_the_picture_for_some_frames_is_for_a_person_to_see() -> None:
    clean = pictures("slow pan")
    wall = np.full_like(clean[0], 0.18)
    found = reviewed([wall if 12 <= at < 20 else one for at, one in enumerate(clean)])
    assert set(found) == set(range(12, 20))
    assert {one.weight for own in found.values() for one in own} == {Weight.SUSPECT}


def shaken() -> list[np.ndarray]:
    """A detailed house before a plain sky, from a camera that shakes: sky is uncovered here and there."""
    chance = np.random.default_rng(3)
    wide = np.full((HEIGHT + 40, WIDTH + 40, 3), 0.4, np.float32)
    wide[50:, 40:170] = chance.random((wide.shape[0] - 50, 130, 1)) * np.array([0.5, 0.4, 0.3])
    wide[100:] = chance.random((wide.shape[0] - 100, wide.shape[1], 1)) * 0.3
    found = []
    for _ in range(COUNT):
        y, x = chance.integers(4, 36, 2)
        found.append(wide[y : y + HEIGHT, x : x + WIDTH].copy())
    return found


def test_a3_sky_that_a_shaking_camera_uncovers_is_a_backdrop() -> None:
    assert reviewed(shaken()) == {}


@pytest.mark.parametrize("every", [3, 4])
def test_a1_buckets_lost_elsewhere_each_time_are_one_group(every: int) -> None:
    chance = np.random.default_rng(6)
    own = set(range(2, COUNT, every))
    pictures_ = pictures("slow pan")
    for number in own:
        for _ in range(int(chance.integers(2, 6))):
            y, x = chance.integers(0, 6, 2) * 16
            pictures_[number] = pictures_[number].copy()
            pictures_[number][y : y + 16, x : x + 16] = 0
    assert set(reviewed(pictures_)) == own


def test_a1_a_cast_on_every_third_frame_is_found_while_everything_moves() -> None:
    own = set(range(2, COUNT, 3))
    cast = np.array([1.15, 1, 0.88], np.float32)
    found = reviewed([one * cast if at in own else one for at, one in enumerate(pictures("fast pan"))])
    assert set(found) == own and all("balance" in one.text for each in found.values() for one in each)


def test_a3_what_passes_close_to_the_camera_is_never_bad_and_a_lost_half_is() -> None:
    clean = pictures("slow pan")
    passing = [one.copy() for one in clean]
    chance = np.random.default_rng(2)
    for number, place in ((14, 10), (15, 90)):
        detail = 0.2 + 0.2 * chance.random((90, 95, 1))
        passing[number][15:105, place : place + 95] = detail * np.array([1, 0.4, 0.3])
    assert {one.weight for own in reviewed(passing).values() for one in own} <= {Weight.SUSPECT}
    lost = clean[14].copy()
    lost[:, WIDTH // 2 :] = 0
    found = reviewed([*clean[:14], lost, *clean[15:]])
    assert set(found) == {14} and Weight.BAD in {one.weight for one in found[14]}


def test_a3_a_lamp_that_goes_on_near_the_end_is_part_of_the_shot() -> None:
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH]
    glow = np.exp(-((x - 50) ** 2 + (y - 40) ** 2) / 800.0)[..., None] * np.array([1.2, 1.0, 0.7])
    clean = pictures("slow pan")
    assert reviewed([one * (1 + 3 * glow) if at >= COUNT - 4 else one for at, one in enumerate(clean)]) == {}


def test_a1_a_class_of_machines_that_is_off_is_named_where_its_machines_are_many() -> None:
    """Each machine has three frames only; what they share is their class."""
    chance = np.random.default_rng(8)
    clean = pictures("slow pan")
    turns = chance.permutation(COUNT)
    nodes = [f"node-{turns[at] // 3}" for at in range(COUNT)]
    places = ["one, tern" if turns[at] // 3 < 5 else "two, wren" for at in range(COUNT)]
    shot = Shot(1, ReviewRules())
    for number, picture in enumerate(clean):
        own = picture.copy()
        if places[number] == "one, tern":
            own *= np.array([1.06, 1, 0.95], np.float32)
        height, width, _ = own.shape
        block = Block(0, width, height, {name: own[..., at].copy() for at, name in enumerate("RGB")})
        judged = judge_blocks(width, height, [block], Expected()).model_copy(update={"form": Form()})
        shot.add(number, judged, Rendered(node=nodes[number], place=places[number]))
    shot.signs()
    assert [one.cause for one in shot.groups] in (["one, tern"], ["two, wren"])


def test_a3_a_title_held_for_two_frames_is_content_and_a_frame_in_anothers_place_is_not() -> None:
    clean = pictures("slow pan, no noise")
    # time stands still for a frame, and goes on from there
    held = [*clean[:12], clean[11], *clean[12:-1]]
    assert reviewed(held) == {}
    # the frame after it is where it would have been
    assert 12 in reviewed([*clean[:12], clean[11], *clean[13:]])
