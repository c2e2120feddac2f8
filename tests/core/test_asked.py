"""Orders for a crate beyond what it was packed for: wishes, their origins, views, checks, and shares of farms."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from farms import TODAY, MemoryFarm, prepared
from tidy_crate import sending as user_side
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import Blocked, WrongUsage
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.job.handover import give_up, left_over
from tidy_crate.core.job.ledger import Ledger
from tidy_crate.core.job.prepare import Sending
from tidy_crate.core.job.retrieve import retrieve
from tidy_crate.core.job.send import send
from tidy_crate.core.job.track import track
from tidy_crate.core.work.options import BUILT_IN, FarmOptions, SendOptions, layered
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import Task, ranges_of, tasks_of, whole


def card(name: str = "f", **more: object) -> FarmCard:
    return FarmCard.model_validate(
        {"name": name, "url": "https://f.invalid", "currency": "EUR", "rates_from": TODAY, "practice": True,
         "operator": {"kind": "own"},
         "priority": [{"name": "usual"}, {"name": "soon", "price": 2}],
         "program": [{"name": "practice", "role": "renderer", "versions": ["1.*"]}],
         "machine": [{"name": "m", "nodes": 2, "score": 100, "memory_gb": 8, "price_per_hour": 1},
                     {"name": "big", "nodes": 4, "score": 100, "memory_gb": 64, "price_per_hour": 4, "gpus": 2,
                      "reclaimable": {"price": 0.5}}]} | more
    )  # fmt: skip


def test_u9_wishes_lie_over_one_another_and_each_says_where_it_comes_from() -> None:
    farms = FarmOptions.model_validate({"batch": 2, "samples": 16, "farm": {"gull": {"batch": 6}}})
    found, wishes = layered(
        [("built in", BUILT_IN), ("card", SendOptions(batch=3, retries=1)), ("user", farms.at("gull")),
         ("command line", SendOptions(samples=8))]
    )  # fmt: skip
    assert (found.batch, found.retries, found.samples) == (6, 1, 8)
    assert {one.name: one.origin for one in wishes} == {
        "batch": "user", "order": "built in", "retries": "card", "start": "built in", "samples": "command line",
    }  # fmt: skip
    assert farms.at("other").batch == 2


def test_u3_another_range_size_samples_and_form_are_asked_for_and_shown(packed: tuple[SceneContext, Path]) -> None:
    found = prepared(
        packed[1], card(), frames="1003-1010", size="50%", samples=2, outputs=["Beauty"], compression="piz",
        order="spread", spread=4, tiles="2x1",
    )  # fmt: skip
    (request,) = found.packing.requests
    assert request.numbers() == (1003, 1007, 1004, 1008, 1005, 1009, 1006, 1010)
    assert (request.width, request.height, request.samples, request.tiles) == (160, 90, 2, (2, 1))
    order = found.order("c")
    assert order.forms["Beauty"].compression == "piz" and set(order.forms) == {"Beauty"}
    assert {one.what for one in found.differences} == {
        "frames", "size", "samples", "outputs", "tiles", "compression",
    }  # fmt: skip
    # what is delivered is the crate as it was packed, so that nothing is uploaded again
    assert found.delivered.digest != found.packing.digest
    eased = [one for one in found.warnings if one.code == "brief-resolution-differs"]
    assert eased and eased[0].message.startswith("as asked here") and not found.errors


def test_u3_cameras_and_variants_become_views_and_hundreds_go_as_one_job(packed: tuple[SceneContext, Path]) -> None:
    survey = packed[0].survey()
    (variant, *_) = survey.variants
    every = f"{variant.prim}:{variant.set}=*"
    found = prepared(packed[1], card(), variants=[every], frames="1001")
    (request,) = found.packing.requests
    assert [view.variants[0].choice for view in request.views] == list(variant.choices)
    assert found.tasks == len(variant.choices) and len({view.name for view in request.views}) == found.tasks
    names = [camera.path for camera in survey.cameras]
    both = prepared(packed[1], card(), cameras=names, variants=[every], frames="1001")
    assert both.tasks == len(names) * len(variant.choices)
    for wrong, words in (
        ({"variants": [f"{variant.prim}:{variant.set}=nothing"]}, "no such choice"),
        ({"variants": ["/nowhere:look=x"]}, "no such variant set"),
        ({"variants": ["look"]}, "not a choice"),
        ({"cameras": ["/nowhere"]}, "no such camera"),
    ):
        with pytest.raises(WrongUsage, match=words):
            prepared(packed[1], card(), **wrong)


@pytest.mark.parametrize(
    ("wishes", "words"),
    [({"size": "big"}, "not a size"), ({"size": "0x10"}, "not a size that can be rendered"),
     ({"tiles": "2"}, "not a split"), ({"tiles": "64x1", "size": "9x9"}, "do not fit"),
     ({"outputs": ["Nothing"]}, "no such output"),
     ({"machine": "huge"}, "no such machine class"), ({"priority": "never"}, "no such priority"),
     ({"machine": "m", "memory_gb": 16}, "has 8"), ({"machine": "m", "gpus": 1}, "a node has 0"),
     ({"machine": "m", "reclaimable": True}, "never taken back"),
     ({"programs": {"practice": "2.0"}}, "does not offer"),
     ({"start": "tested", "test_frames": "1"}, "not among the frames"),
     ({"samples": 4, "shares": 8}, "cannot be split")],
)  # fmt: skip
def test_u4_wishes_that_cannot_be_are_refused_by_name(
    wishes: dict[str, object], words: str, packed: tuple[SceneContext, Path]
) -> None:
    with pytest.raises(WrongUsage, match=words):
        prepared(packed[1], card(), **wishes)


def test_u4_what_is_wished_of_the_machines_is_in_the_order(packed: tuple[SceneContext, Path]) -> None:
    found = prepared(
        packed[1], card(), memory_gb=32, gpus=2, devices=["gpu"], reclaimable=True, priority="soon", retries=5,
        programs={"practice": "1.2"}, start="tested", cap="12.50", batch=6, nodes=3,
    )  # fmt: skip
    order = found.order("c")
    # the first class does not have the memory
    assert (order.machine, order.memory_gb, order.gpus, order.devices) == ("big", 32, 2, ("gpu",))
    assert (order.reclaimable, order.priority, order.retries, order.start) == (True, "soon", 5, "tested")
    assert [list(tasks_of(order.tests, order.requests))[n].frame for n in range(3)] == [1001, 1025, 1048]
    assert order.programs == {"practice": "1.2"} and str(order.cap) == "12.50" and order.nodes == 3


def test_r7_frames_that_the_caches_do_not_cover_are_refused(packed: tuple[SceneContext, Path]) -> None:
    with pytest.raises(Blocked, match=r"the cache of .* covers"):
        prepared(packed[1], card(), frames="1001-1200")


class Links:
    """Links to farms in memory, by submission."""

    def __init__(self, *farms: MemoryFarm) -> None:
        self.farms = {farm.name: farm for farm in farms}
        self.dead: set[str] = set()

    def __call__(self, row):  # type: ignore[no-untyped-def]
        from tidy_crate.core.errors import FarmBusy

        if row.farm in self.dead:
            raise FarmBusy("nothing answers there", row.farm)
        return self.farms[row.farm].link()


def parts(base: Sending, *shares: Iterable[int]) -> list[Sending]:
    return [base.of(ranges_of(Task("main", frame) for frame in frames)) for frames in shares]


def test_u6_one_of_two_farms_dies_and_every_frame_comes_home_once(
    packed: tuple[SceneContext, Path], tmp_path: Path
) -> None:
    ledger, first, second = Ledger(tmp_path / "l.sqlite"), MemoryFarm("a"), MemoryFarm("b")
    second.fails = {1005, 1006}
    base = prepared(packed[1], card("a"), frames="1001-1006")
    one, two = parts(base, range(1001, 1004), range(1004, 1007))
    job = send(one, card("a"), Path("a"), first.link(), ledger).job
    send(two.model_copy(update={"farm": "b"}), card("b"), Path("b"), second.link(), ledger, job=job)
    links = Links(first, second)
    into = tmp_path / "frames"
    came = retrieve(ledger, job, into, links)
    assert {entry.frame for entry in came.retrieved} == {1001, 1002, 1003, 1004} and len(came.missing) == 4
    links.dead = {"b"}
    _, _, left = left_over(ledger, job, ["b"])
    assert [task.frame for task in left] == [1005, 1006]
    # its job has ended there, so that there is nothing to call off
    assert give_up(ledger, job, ["b"], links) == {}
    third = MemoryFarm("c")
    links.farms["c"] = third
    send(base.of(ranges_of(left)), card("c"), Path("c"), third.link(), ledger, job=job)
    with pytest.raises(WrongUsage, match="not at this farm"):
        left_over(ledger, job, ["d"])
    view = track(ledger, job, links)
    assert view.state == "done" and view.done == 6
    assert [at.trouble for at in view.at if at.given_up] == ["nothing answers there"]
    came = retrieve(ledger, job, into, links)
    assert came.at_home == 12 and {entry.frame for entry in came.retrieved} == {1005, 1006} and came.ended
    assert left_over(ledger, job, [])[2] == []


def test_u6_shares_fit_quotas_and_weights_and_add_up() -> None:
    request = RenderRequest(name="main", frames="1-100", width=10, height=10, outputs=("B",))
    tasks = list(tasks_of(whole([request]), [request]))
    from fractions import Fraction

    shares = {"a": Fraction(3), "b": Fraction(1), "c": Fraction(1)}
    assert [len(own) for own in user_side._within(tasks, shares, {})] == [60, 20, 20]
    cut = user_side._within(tasks, shares, {"a": 10})
    assert [len(own) for own in cut] == [10, 45, 45] and [task for own in cut for task in own] == tasks
    with pytest.raises(WrongUsage, match="hold 30 of 100"):
        user_side._within(tasks, shares, {"a": 10, "b": 10, "c": 10})


@given(
    st.integers(1, 60), st.lists(st.tuples(st.integers(1, 9), st.none() | st.integers(0, 30)), min_size=1, max_size=5)
)
def test_u6_no_frame_twice_and_none_forgotten(count: int, farms: list[tuple[int, int | None]]) -> None:
    from fractions import Fraction

    tasks = [Task("main", frame) for frame in range(count)]
    shares = {str(n): Fraction(weight) for n, (weight, _) in enumerate(farms)}
    quotas = {str(n): quota for n, (_, quota) in enumerate(farms) if quota is not None}
    room = None if len(quotas) < len(farms) else sum(quotas.values())
    if room is not None and room < count:
        with pytest.raises(WrongUsage):
            user_side._within(tasks, shares, quotas)
        return
    cut = user_side._within(tasks, shares, quotas)
    assert [task for own in cut for task in own] == tasks
    assert all(len(own) <= quotas.get(name, count) for name, own in zip(shares, cut, strict=True))


def test_a_packing_list_tells_what_was_asked(packed: tuple[SceneContext, Path]) -> None:
    assert isinstance(prepared(packed[1], card()).packing, PackingList)
