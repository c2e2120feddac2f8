"""One broken machine among several: its frames are found as a group, with its name, and clean shots have none."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import cache
from pathlib import Path

import numpy as np
import OpenEXR
import pytest

from tidy_crate.core.context.review_rules import ReviewRules
from tidy_crate.core.picture.judge import Expected, judge_file
from tidy_crate.core.picture.look import Look, brightened, look_at
from tidy_crate.core.review.folder import review_folder
from tidy_crate.core.review.neighbours import Neighbours
from tidy_crate.core.review.populations import Group, groups_of
from tidy_crate.core.review.rendered import Rendered
from tidy_crate.core.review.sequence import signs_of
from tidy_crate.core.review.sign import Kind, Sign, Weight
from tidy_crate.core.review.verdicts import FrameVerdict, GroupVerdict, Review
from tidy_crate.core.review.votes import Vote, outvoted
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.task import Task
from tidy_crate.practice.sequences import CLEAN, sequence

RULES = ReviewRules()
FRAMES = 36
Fault = Callable[[np.ndarray], np.ndarray]


def _part(rows: slice, columns: slice, colour: Sequence[float]) -> Fault:
    def fault(picture: np.ndarray) -> np.ndarray:
        found = picture.copy()
        found[rows, columns] = np.array(colour, np.float32)
        return found

    return fault


def _noisy(picture: np.ndarray) -> np.ndarray:
    chance = np.random.default_rng(int(picture.sum() * 1e3) % 2**32)
    return np.asarray(picture * chance.gamma(4, 1 / 4, (*picture.shape[:2], 1)), np.float32)


FAULTS: dict[str, Fault] = {
    "half of it black": _part(slice(None), slice(96, None), (0, 0, 0)),
    "a magenta part": _part(slice(27, 50), slice(64, 93), (0.6, 0, 0.6)),
    "a black bucket": _part(slice(32, 48), slice(64, 80), (0, 0, 0)),
    "rows lost": _part(slice(80, None), slice(None), (0, 0, 0)),
    "another balance": lambda picture: picture * np.array([1.15, 1, 0.88], np.float32),
    "another exposure": lambda picture: picture * np.float32(0.85),
    "another transfer curve": lambda picture: np.maximum(picture, 0) ** np.float32(0.8),
    "another order of channels": lambda picture: picture[..., ::-1].copy(),
    "few samples": _noisy,
    "a view of its own": lambda picture: np.roll(picture, 60, axis=1),
}


def look_of(picture: np.ndarray) -> Look:
    found = look_at(np.ascontiguousarray(np.moveaxis(picture, -1, 0)).copy())
    assert found is not None
    return found


@cache
def shot(name: str) -> list[np.ndarray]:
    return sequence(CLEAN[name], FRAMES, seed=9)


@cache
def look(name: str, frame: int, fault: str = "") -> Look:
    """A frame of a clean shot, as it is or with a fault, measured once for all tests."""
    picture = shot(name)[frame]
    return look_of(FAULTS[fault](picture) if fault else picture)


def compared(looks: Iterable[Look]) -> Neighbours:
    found = Neighbours(1)
    for frame, one in enumerate(looks):
        found.add(frame, one)
    return found


def measured(pictures: Sequence[np.ndarray]) -> Neighbours:
    return compared(map(look_of, pictures))


def groups(pictures: Sequence[np.ndarray], nodes: Sequence[str] = ()) -> list[Group]:
    return groups_in(measured(pictures), nodes)


def groups_in(one: Neighbours, nodes: Sequence[str] = ()) -> list[Group]:
    rendered = {frame: Rendered(node=node) for frame, node in enumerate(nodes)}
    known = [step is not None for step in one.found.steps]
    return groups_of(one.kept, one.found.frames, known, rendered, RULES)[0]


def shared_out(nodes: int, batch: int, seed: int) -> list[str]:
    """Batches as a farm gives them out: to whichever node is free."""
    chance = np.random.default_rng(seed)
    turns = np.concatenate([chance.permutation(nodes) for _ in range(FRAMES)])
    return [f"node-{turn}" for turn in turns for _ in range(batch)][:FRAMES]


@pytest.fixture(scope="module")
def clean() -> dict[str, list[np.ndarray]]:
    return {name: shot(name) for name in ("slow pan", "slow object", "noisy")}


@pytest.mark.parametrize(("nodes", "batch"), [(2, 1), (2, 3), (6, 2)])
@pytest.mark.parametrize("fault", FAULTS)
def test_f10_a_bad_machine_is_found_with_all_its_frames(fault: str, nodes: int, batch: int) -> None:
    for name in ("slow pan", "slow object", "noisy"):
        who = shared_out(nodes, batch, seed=nodes)
        bad = who[0]
        looks = [look(name, frame, fault if node == bad else "") for frame, node in enumerate(who)]
        found = groups_in(compared(looks), who)
        own = {frame for frame, node in enumerate(who) if node == bad}
        # of two machines nothing but a test frame says which one is right
        either = [own, set(range(FRAMES)) - own] if nodes == 2 else [own]
        assert [set(one.frames) in either for one in found] == [True], (name, found)
        assert nodes == 2 or found[0].cause == bad


@pytest.mark.parametrize("name", CLEAN)
def test_f10_a_clean_shot_has_no_group_whoever_rendered_it(name: str) -> None:
    one = measured(sequence(CLEAN[name], FRAMES, seed=2))
    assert groups_in(one) == []
    for nodes, batch in ((2, 1), (3, 2), (9, 1)):
        assert groups_in(one, shared_out(nodes, batch, seed=nodes)) == []


@pytest.mark.parametrize("every", [2, 3, 4, 6])
@pytest.mark.parametrize("fault", [name for name in FAULTS if name != "another exposure"])
def test_f10_without_a_job_damage_on_every_nth_frame_is_one_group(fault: str, every: int) -> None:
    own = set(range(every - 1, FRAMES, every))
    looks = [look("slow pan", frame, fault if frame in own else "") for frame in range(FRAMES)]
    (group,) = groups_in(compared(looks))
    assert set(group.frames) in ([own, set(range(FRAMES)) - own] if every == 2 else [own]) and group.text


def test_a_frame_is_not_blamed_for_not_being_like_a_group(clean: dict[str, list[np.ndarray]]) -> None:
    own = set(range(2, FRAMES, 3))
    fault = FAULTS["half of it black"]
    one = measured([fault(picture) if frame in own else picture for frame, picture in enumerate(clean["slow pan"])])
    ((group,), _) = groups_of(one.kept, one.found.frames, [step is not None for step in one.found.steps], {}, RULES)
    signs = signs_of(one.found, RULES, {}, set(group.frames))
    assert {frame for frame, own_ in signs.items() if any(s.weight is not Weight.NOTE for s in own_)} <= own


def test_plain_sky_uncovered_between_moving_things_is_not_unfinished() -> None:
    chance = np.random.default_rng(4)
    texture = chance.random((108, 192, 3)).astype(np.float32) * 0.5
    pictures = []
    for frame in range(20):
        picture = np.full((108, 192, 3), 0.35, np.float32)
        # two walls of detail, with a gap between them that is only wide enough in some frames
        gap = 24 if frame in (8, 9, 10) else 2
        picture[:, : 96 - gap // 2] = texture[:, : 96 - gap // 2]
        picture[:, 96 + gap // 2 : 170] = texture[:, 96 + gap // 2 : 170]
        pictures.append(picture)
    signs = signs_of(measured(pictures).found, RULES)
    assert not [one for own in signs.values() for one in own if one.kind is Kind.FLAT]


def frame(number: int, *signs: Sign, attempt: int = 1) -> FrameVerdict:
    verdict = Verdict.SUSPECT if signs else Verdict.GOOD
    return FrameVerdict.of(
        Task("main", number), "Beauty", path=Path(f"{number}.exr"), verdict=verdict,
        reasons=tuple(one.text for one in signs), signs=signs, attempt=attempt,
    )  # fmt: skip


def test_f11_the_very_picture_rendered_here_outvotes_the_frames_beside_it_and_clears_its_run() -> None:
    run = Sign(kind=Kind.PICTURE, weight=Weight.SUSPECT, text="a run differs", figure=0.1, limit=0.05)
    other = Sign(kind=Kind.PICTURE, weight=Weight.SUSPECT, text="another one", figure=0.2, limit=0.05)
    small = Sign(kind=Kind.FLAT, weight=Weight.SUSPECT, text="9 small cells", figure=9, limit=4)
    review = Review(frames=(frame(1, run), frame(2, run), frame(5, other), frame(8, small)))
    keys = {number: (Task("main", number).key, "Beauty") for number in (2, 8)}
    votes = {key: Vote("it is the same as here", exact=False) for key in keys.values()}
    after = {one.frame: one.verdict for one in outvoted(review, votes, votes).frames}
    # a small part may be missing from a frame that agrees nearly all over
    assert after == {1: Verdict.GOOD, 2: Verdict.GOOD, 5: Verdict.SUSPECT, 8: Verdict.SUSPECT}
    exact = {keys[8]: Vote("it is the same as here", exact=True)}
    (_, _, _, last) = outvoted(review, exact, exact).frames
    assert last.verdict is Verdict.GOOD and "same as here" in last.signs[0].text


def test_f10_test_frames_say_which_of_two_populations_is_right() -> None:
    shared = Sign(kind=Kind.GROUP, weight=Weight.SUSPECT, text="2 frames share", figure=0.3, limit=0)
    group = GroupVerdict(
        frames=(2, 4), cause="", text="a difference", shows=(2, 3), figure=0.3, request="main", view="", output="Beauty"
    )
    review = Review(frames=(frame(1), frame(2, shared), frame(3), frame(4, shared), frame(5)), groups=(group,))
    right = {(Task("main", 2).key, "Beauty"): Vote("as rendered here", exact=True)}
    turned = outvoted(review, right, right)
    assert [one.frame for one in turned.frames if one.verdict is Verdict.SUSPECT] == [1, 3, 5]
    assert [one.frames for one in turned.groups] == [(1, 3, 5)]
    # that it was rendered again says nothing of the others
    again = outvoted(review, right)
    assert [one.frames for one in again.groups] == [(2, 4)]


def exr(path: Path, picture: np.ndarray) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    OpenEXR.File(header, {"RGB": np.ascontiguousarray(picture, np.float32)}).write(str(path))


def test_f10_a_folder_names_the_frames_of_a_group_and_calls_none_of_them_good(tmp_path: Path) -> None:
    own = set(range(3, 24, 4))
    for number, picture in enumerate(sequence(CLEAN["slow pan"], 24, seed=5)):
        exr(tmp_path / f"a.{number:04d}.exr", FAULTS["half of it black"](picture) if number in own else picture)
    review = review_folder(tmp_path, None)
    assert [set(one.frames) for one in review.groups] == [own]
    assert {one.frame for one in review.frames if one.verdict is not Verdict.GOOD} == own


@pytest.mark.parametrize("light", [0.002, 0.0002])
def test_f3_in_a_night_shot_a_black_frame_is_bad_and_damage_is_found(light: float, tmp_path: Path) -> None:
    pictures = [one * np.float32(light) for one in sequence(CLEAN["slow pan"], 16, seed=5)]
    pictures[6] = np.zeros_like(pictures[6])
    pictures[11] = FAULTS["half of it black"](pictures[11])
    for number, picture in enumerate(pictures):
        exr(tmp_path / f"n.{number:04d}.exr", picture)
    found = {one.frame: one.verdict for one in review_folder(tmp_path, None).frames}
    assert found.pop(6) is Verdict.BAD and found.pop(11) in (Verdict.BAD, Verdict.SUSPECT)
    assert set(found.values()) == {Verdict.GOOD}


def test_a_dark_look_exposed_for_more_is_the_look_of_the_brighter_picture() -> None:
    picture = sequence(CLEAN["slow pan"], 1, seed=5)[0] * np.float32(0.01)
    dark, bright = (look_at(np.ascontiguousarray(np.moveaxis(one, -1, 0)).copy()) for one in (picture, picture * 50))
    assert dark is not None and bright is not None
    found = brightened(dark, 50)
    assert np.abs(found.cells[..., 0] - bright.cells[..., 0]).max() < 0.08
    assert np.abs(found.cells[..., 1:] - bright.cells[..., 1:]).max() < 0.03
    assert abs(float(np.median(found.noise / bright.noise)) - 1) < 0.1


def _tiff(bits: int, kind: int) -> bytes:
    """A TIFF of three channels, after the standard."""
    width, height = 40, 24
    data = np.zeros((height, width, 3 * bits // 8), np.uint8).tobytes()
    entries = [(256, 4, 1, width), (257, 4, 1, height), (262, 3, 1, 2), (277, 3, 1, 3), (278, 4, 1, height),
               (279, 4, 1, len(data)), (273, 4, 1, 8)]  # fmt: skip
    start = 8 + len(data)
    after = start + 2 + 12 * (len(entries) + 2) + 4
    entries += [(258, 3, 3, after), (339, 3, 3, after + 6)]
    head = np.array([start], "<u4").tobytes()
    table = b"".join(
        np.array([tag, kind_], "<u2").tobytes() + np.array([count, value], "<u4").tobytes()
        for tag, kind_, count, value in sorted(entries)
    )
    tail = np.array([bits] * 3 + [kind] * 3, "<u2").tobytes()
    return b"II*\0" + head + data + np.array([len(entries)], "<u2").tobytes() + table + b"\0" * 4 + tail


def test_f11_a_format_that_is_not_read_here_is_unchecked_and_a_broken_one_is_bad(tmp_path: Path) -> None:
    (tmp_path / "float.tif").write_bytes(_tiff(32, 3))
    (tmp_path / "cut.tif").write_bytes(_tiff(32, 3)[:900])
    (tmp_path / "text.tif").write_bytes(b"II*\0 this is no picture at all")
    found = judge_file(tmp_path / "float.tif", Expected())
    assert found.verdict is Verdict.SUSPECT and found.unchecked == ("pixels",) and "floating point" in found.reasons[0]
    assert judge_file(tmp_path / "cut.tif", Expected()).verdict is Verdict.BAD
    assert judge_file(tmp_path / "text.tif", Expected()).verdict is Verdict.BAD


def test_every_second_frame_that_lost_half_of_its_picture_is_told_though_no_two_neighbours_are_alike(
    clean: dict[str, list[np.ndarray]], tmp_path: Path
) -> None:
    """Neighbours that do not resemble each other are separate views, unless those two frames on do."""
    for frame, picture in enumerate(clean["slow pan"]):
        exr(tmp_path / f"f.{frame:04d}.exr", FAULTS["half of it black"](picture) if frame % 2 else picture)
    (group,) = review_folder(tmp_path, None).groups
    assert len(group.frames) == FRAMES // 2


@pytest.mark.parametrize("backdrop", [True, False])
def test_two_exposures_at_even_intervals_are_told_from_a_light_by_the_backdrop(
    clean: dict[str, list[np.ndarray]], backdrop: bool
) -> None:
    """A light that flashes does not fall on the sky; another exposure changes both."""
    pictures = []
    rows, columns = np.mgrid[0:108, 0:192]
    sky = rows < 10 + columns / 4
    for frame, one in enumerate(clean["slow object"]):
        found = one * np.float32(0.8 if frame % 4 == 1 else 1)
        found[sky] = np.float32(0.3 if frame % 4 != 1 or not backdrop else 0.24)
        pictures.append(found)
    found = groups(pictures)
    assert [len(one.frames) for one in found] == ([FRAMES // 4] if backdrop else [])
    assert not backdrop or "exposure" in found[0].text


def test_lines_between_the_tiles_of_a_large_picture_are_seen() -> None:
    """Of a large picture only half of the lines tell its brightness; single lines are looked for in all of them."""
    rows, columns = np.mgrid[0:1080, 0:1920]
    plain = (0.4 + 0.1 * np.sin(rows / 170) + 0.1 * np.cos(columns / 190)).astype(np.float32)
    broken = plain.copy()
    broken[::64] *= 0.5
    one, other = (look_at(np.stack([picture] * 3)) for picture in (plain, broken))
    assert one is not None and other is not None
    assert one.lines.shape == other.lines.shape == (2,) and one.lines.max() < 0.05
    assert other.lines[0] == pytest.approx(1, abs=0.1) and other.lines[1] < 0.05
