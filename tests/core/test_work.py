"""Tasks, parts of pictures, and the one rule for where a product is."""

from __future__ import annotations

from collections import Counter
from pathlib import PurePosixPath

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import TypeAdapter, ValidationError

from tidy_crate.core.asset.sequences import FrameTokens, frame_numbers
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.command import RenderCommand, filled
from tidy_crate.core.work.parts import samples_of, window
from tidy_crate.core.work.product import (
    Delivery,
    OutputNaming,
    file_name,
    in_use,
    output_folder,
    product_path,
    set_aside_path,
)
from tidy_crate.core.work.request import RenderRequest, View
from tidy_crate.core.work.task import Task, TaskRange, first, ranges_of, slices, spread, tasks_of, whole


def request(**changes: object) -> RenderRequest:
    usual: dict[str, object] = {"name": "main", "frames": "1-4", "width": 64, "height": 36, "outputs": ("B",)}
    return RenderRequest.model_validate(usual | changes)


SPLIT = request(
    frames="1-3,10", views=(View(name="dusk"), View(name="fog")), tiles=(3, 2), shares=2, samples=8
)  # fmt: skip


def test_all_tasks_of_a_request_are_one_short_range() -> None:
    tasks = list(tasks_of(whole([SPLIT]), [SPLIT]))
    assert len(tasks) == len(set(tasks)) == SPLIT.task_count == 4 * 2 * 6 * 2
    assert tasks[0] == Task("main", 1, "dusk", 0, 0) and tasks[-1] == Task("main", 10, "fog", 5, 1)
    (one,) = ranges_of(tasks)
    assert one == TaskRange(request="main", frames="1-3,10", views=("dusk", "fog"), tiles="0-5", shares="0-1")
    assert one.count(SPLIT) == len(tasks)
    many = request(frames="1-100000")
    assert ranges_of(tasks_of(whole([many]), [many])) == (TaskRange(request="main", frames="1-100000"),)


@given(st.data())
def test_ranges_say_the_same_tasks_as_any_list_of_them(data: st.DataObject) -> None:
    every = list(tasks_of(whole([SPLIT, request(name="two")]), [SPLIT, request(name="two")]))
    some = data.draw(st.lists(st.sampled_from(every), unique=True, min_size=1))
    back = list(tasks_of(ranges_of(some), [SPLIT, request(name="two")]))
    assert Counter(back) == Counter(some)
    assert sum(one.count(SPLIT if one.request == "main" else request(name="two")) for one in ranges_of(some)) == len(
        some
    )


@pytest.mark.parametrize(
    "wrong",
    [{"request": "other", "frames": "1"}, {"frames": "5"}, {"frames": "1", "views": ("dawn",)},
     {"frames": "1", "tiles": "6"}, {"frames": "1", "tiles": "-1"}, {"frames": "1", "shares": "2"}],
)  # fmt: skip
def test_ranges_that_the_request_does_not_have_are_refused(wrong: dict[str, object]) -> None:
    with pytest.raises(WrongUsage):
        list(tasks_of([TaskRange.model_validate({"request": "main"} | wrong)], [SPLIT]))
    with pytest.raises(WrongUsage, match="not split"):
        list(tasks_of([TaskRange(request="main", frames="1", tiles="1")], [request()]))


@pytest.mark.parametrize(
    "changes",
    [{"tiles": (65, 1)}, {"tiles": (0, 1)}, {"width": 2, "tiles": (3, 1)}, {"shares": 0},
     {"shares": 3, "samples": 2}, {"views": ({"name": "a"}, {"name": "a"})}, {"views": ({"name": "A b"},)}],
)  # fmt: skip
def test_requests_that_cannot_be_split_so_are_refused(changes: dict[str, object]) -> None:
    with pytest.raises(ValidationError):
        request(**changes)
    request(width=3, tiles=(3, 1))
    request(shares=2, samples=2)


@given(st.integers(1, 300), st.integers(1, 300), st.data())
def test_tiles_cover_every_pixel_exactly_once(width: int, height: int, data: st.DataObject) -> None:
    tiles = data.draw(st.tuples(st.integers(1, min(8, width)), st.integers(1, min(8, height))))
    parts = [window(width, height, tiles, tile) for tile in range(tiles[0] * tiles[1])]
    assert all(part.width > 0 and part.height > 0 for part in parts)
    assert sum(part.width * part.height for part in parts) == width * height
    corners = {(part.left, part.top) for part in parts}
    assert len(corners) == len(parts) and {(p.right, p.bottom) for p in parts} & {(width, height)}
    for tile in (-1, len(parts)):
        with pytest.raises(WrongUsage):
            window(width, height, tiles, tile)


@given(st.integers(1, 500), st.data())
def test_shares_take_every_sample_exactly_once(samples: int, data: st.DataObject) -> None:
    shares = data.draw(st.integers(1, samples))
    parts = [samples_of(samples, shares, share) for share in range(shares)]
    assert [sample for part in parts for sample in part] == list(range(samples))
    assert max(map(len, parts)) - min(map(len, parts)) <= 1
    for wrong in ((samples, shares, shares), (samples, shares, -1), (samples, samples + 1, 0)):
        with pytest.raises(WrongUsage):
            samples_of(*wrong)


@given(st.integers(0, 200), st.dictionaries(st.sampled_from("abcd"), st.integers(0, 9), min_size=1))
def test_u6_slices_give_every_task_to_exactly_one(count: int, weights: dict[str, int]) -> None:
    tasks = [Task("main", frame) for frame in range(count)]
    if not any(weights.values()):
        with pytest.raises(WrongUsage):
            slices(tasks, weights)
        return
    found = slices(tasks, weights)
    assert [task for part in found.values() for task in part] == tasks
    total = sum(weights.values())
    assert all(abs(len(found[name]) - count * weight / total) < 1 for name, weight in weights.items())


@given(st.lists(st.integers(-50, 50), unique=True), st.integers(1, 9))
def test_u4_orders_keep_every_frame(frames: list[int], step: int) -> None:
    assert sorted(spread(frames, step)) == sorted(frames)
    assert list(spread(frames, step))[: len(frames[::step])] == frames[::step]
    ahead = first(frames, [*frames[::-3], 999])
    assert sorted(ahead) == sorted(frames) and list(ahead)[: len(frames[::-3])] == frames[::-3]
    with pytest.raises(WrongUsage):
        spread(frames, 0)


NAMES = st.text(min_size=1, max_size=12)


@given(st.lists(NAMES, min_size=2, max_size=6, unique_by=lambda name: name.strip("/")))
def test_outputs_have_folders_of_their_own_and_none_leads_elsewhere(names: list[str]) -> None:
    folders = [output_folder(name) for name in names]
    assert len(set(folders)) == len(names) or any(not name.strip("/") for name in names)
    for folder in folders:
        assert len(PurePosixPath(folder).parts) == 1 and folder not in (".", "..") and "\\" not in folder


@pytest.mark.parametrize(("one", "other"), [("a/b", "a.b"), ("a/b", "a+b"), ("a b", "a+b"), ("%2E", "."), ("ä", "a")])
def test_outputs_that_look_alike_do_not_collide(one: str, other: str) -> None:
    assert output_folder(one) != output_folder(other)


@given(st.data())
def test_every_product_has_a_path_of_its_own(data: st.DataObject) -> None:
    path = data.draw(st.sampled_from(["r/b.####.exr", "b.exr", "", "b.v2.%04d.exr", "$F4/b.$F4.exr"]))
    tokens = FrameTokens.of({"$F4": 4})
    outputs = [OutputNaming("B", path, "exr"), OutputNaming("B/x", path, "exr")]
    requests = [SPLIT, request(name="two")]
    found = [
        product_path(output, task, by_request=True, tokens=tokens)
        for output in outputs
        for task in tasks_of(whole(requests), requests)
    ]
    assert len(set(found)) == len(found)


def test_the_name_of_a_product_says_frame_tile_and_share() -> None:
    output = OutputNaming("Beauty", "renders/quay.####.exr")
    assert file_name(output, Task("main", -3)) == "quay.-0003.exr"
    assert product_path(output, Task("main", 7, "fog", 3, 12)) == PurePosixPath(
        "fog/Beauty/quay.tile03.share012.0007.exr"
    )
    aside = set_aside_path(PurePosixPath("Beauty/quay.0007.exr"), Delivery("harbour", 2, 3))
    assert aside == PurePosixPath("set-aside/Beauty/quay.0007.harbour-2.attempt3.exr")


D = Delivery


@pytest.mark.parametrize(
    ("deliveries", "counts"),
    [
        ([], None),
        ([D("a", 1, 1), D("a", 1, 2)], 1),
        ([D("a", 1, 2, Verdict.GOOD), D("a", 1, 1, Verdict.GOOD)], 0),
        ([D("a", 1, 1), D("b", 2, 1)], 0),
        ([D("a", 1, 1, Verdict.BAD), D("b", 2, 1)], 1),
        ([D("a", 1, 1, Verdict.SUSPECT), D("b", 2, 1, Verdict.GOOD)], 1),
        ([D("a", 1, 1, Verdict.BAD), D("b", 2, 1, Verdict.BAD)], 0),
        ([D("a", 1, 1, Verdict.GOOD), D("a", 1, 2, Verdict.BAD), D("b", 2, 5, Verdict.GOOD)], 0),
        ([D("a", 1, 1, Verdict.GOOD), D("a", 1, 2)], 1),
        ([D("a", 1, 1, Verdict.GOOD), D("a", 1, 2, Verdict.SUSPECT)], 1),
        ([D("a", 1, 1, Verdict.SUSPECT), D("a", 1, 2, Verdict.BAD)], 1),
    ],
)
def test_of_several_deliveries_one_counts_whatever_their_order(deliveries: list[Delivery], counts: int | None) -> None:
    wanted = None if counts is None else deliveries[counts]
    assert in_use(deliveries) == in_use(reversed(deliveries)) == wanted


@pytest.mark.parametrize(
    ("names", "numbers"),
    [
        (["a.-005.exr"], [-5]),
        (["beauty.1001_v2.exr"], [1001]),
        (["beauty_v2.1001.exr", "beauty_v2.1002.exr"], [1001, 1002]),
        (["beauty.1001_v2.exr", "beauty.1002_v2.exr"], [1001, 1002]),
        (["shot-10.7.exr"], [7]),
        (["shot-10.-7.exr", "shot-10.8.exr"], [-7, 8]),
        (["5.exr", "-5.exr"], [5, -5]),
        (["still.exr"], [None]),
        (["r2d2.exr"], [None]),
        (["a1.exr", "a2.exr"], [1, 2]),
        (["cam1.0010.exr", "cam2.0010.exr"], [10, 10]),
    ],
)
def test_frame_numbers_are_read_off_names_that_nobody_explained(names: list[str], numbers: list[int | None]) -> None:
    found = frame_numbers(names)
    if names[0].startswith("cam"):
        # only the cameras differ here, so the number that does not is no sequence
        assert set(found) == set(names)
        return
    assert [found[name] for name in names] == numbers


def test_placeholders_are_filled_in_and_a_strange_one_is_named() -> None:
    assert filled(("r", "{frames}:{scene}", "{x"), {"frames": "1-2", "scene": "a b"}) == ["r", "1-2:a b", "{x"]
    with pytest.raises(WrongUsage, match="unknown placeholder"):
        filled(RenderCommand(command=("{sceen}",)).command, {"scene": "s"})


@pytest.mark.parametrize(
    "wrong",
    [{"frame": 2**31}, {"frame": 1.5}, {"tile": -1}, {"share": -1}, {"view": "../x"}, {"request": ""}, {"more": 1}],
)
def test_x4_identities_from_outside_are_checked(wrong: dict[str, object]) -> None:
    whole_task = {"request": "main", "frame": 1, "view": "", "tile": None, "share": None}
    adapter = TypeAdapter(Task)
    assert adapter.validate_python(whole_task) == Task("main", 1)
    with pytest.raises(ValidationError):
        adapter.validate_python(whole_task | wrong)
