"""Sending, tracking and retrieving against farms that lie, break off, forget, and deliver the same frame twice."""

from __future__ import annotations

import io
import os
from dataclasses import replace
from datetime import UTC, datetime, timedelta, tzinfo
from decimal import Decimal
from pathlib import Path

import pytest
from rich.console import Console
from sqlalchemy import select

from conftest import tree
from farms import FolderFarm, MemoryFarm, prepared, sources
from tidy_crate.cli.track_view import Room, job_view
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.crate.packing import read_packing_list
from tidy_crate.core.errors import Blocked, FarmBusy, FarmError, WrongUsage
from tidy_crate.core.farm.card import FarmCard, Operator, OutputRules
from tidy_crate.core.farm.links.interface import FarmLink
from tidy_crate.core.farm.protocol import Action, ControlOrder, TaskChange
from tidy_crate.core.job.accepting import decide, judged_products
from tidy_crate.core.job.grid import frame_grid
from tidy_crate.core.job.ledger import Ledger
from tidy_crate.core.job.listing import list_jobs
from tidy_crate.core.job.prepare import Sending
from tidy_crate.core.job.rerender import rerender, to_rerender
from tidy_crate.core.job.retrieve import retrieve
from tidy_crate.core.job.send import Sent, send
from tidy_crate.core.job.tables import ProductRow, SubmissionRow
from tidy_crate.core.job.track import cancel, log_of, track
from tidy_crate.core.review.deliver import deliver
from tidy_crate.core.review.run import review_job
from tidy_crate.core.transfer.upload import Upload
from tidy_crate.core.work.attempt import Attempt, Verdict
from tidy_crate.core.work.product import SET_ASIDE
from tidy_crate.core.work.request import RenderRequest, View
from tidy_crate.core.work.task import Task, TaskRange, TaskState, whole

CARD = FarmCard.model_validate(
    {"name": "f", "url": "https://f.invalid", "currency": "EUR", "rates_from": "2026-11-01", "practice": True,
     "operator": {"kind": "own"},
     "machine": [{"name": "m", "nodes": 2, "score": 100, "memory_gb": 8, "price_per_hour": 1}]}
)  # fmt: skip


@pytest.fixture
def ledger(tmp_path: Path) -> Ledger:
    return Ledger(tmp_path / "ledger.sqlite")


def of_request(sending: Sending, **changes: object) -> Sending:
    """The same crate, to be rendered otherwise."""
    request = RenderRequest.model_validate(sending.packing.requests[0].model_dump() | changes)
    packing = sending.packing.model_copy(update={"requests": (request,)})
    return sending.model_copy(update={"packing": packing}).of(whole(packing.requests))


@pytest.fixture
def sending(packed: tuple[SceneContext, Path]) -> Sending:
    """The crate on three frames."""
    return of_request(prepared(packed[1], CARD, batch=2), frames="1001-1003")


@pytest.fixture
def farm() -> MemoryFarm:
    return MemoryFarm()


def start(sending: Sending, farm: MemoryFarm, ledger: Ledger, job: str | None = None, name: str = "f") -> str:
    card = CARD.model_copy(update={"name": name})
    # many a test sends one crate several times, and means it
    return send(sending, card, Path(f"{name}.farm.toml"), farm.link(), ledger, job=job, again=True).job


def links(*farms: MemoryFarm):  # type: ignore[no-untyped-def]
    by_name = {farm.name: farm.link() for farm in farms}
    return lambda row: by_name[row.farm]


def test_jobs_are_numbered_and_products_are_known_before_they_come(
    sending: Sending, farm: MemoryFarm, ledger: Ledger
) -> None:
    assert [start(sending, farm, ledger) for _ in range(2)] == ["lantern_quay-1", "lantern_quay-2"]
    lines = list_jobs(ledger)
    assert [(line.job, line.products, line.at_home, line.state) for line in lines] == [
        ("lantern_quay-2", 6, 0, "waiting"), ("lantern_quay-1", 6, 0, "waiting"),
    ]  # fmt: skip
    with pytest.raises(WrongUsage, match="no job has that name"):
        track(ledger, "nobody-1", links(farm))


def test_u10_nothing_is_submitted_when_the_farm_understood_something_else(
    sending: Sending, farm: MemoryFarm, ledger: Ledger
) -> None:
    farm.reading = {"end": 1040, "missing": ("textures/sky.png",)}
    with pytest.raises(Blocked, match=r"frames 1001-1040, not 1001-1048; files it cannot find: textures/sky\.png"):
        start(sending, farm, ledger)
    assert farm.submissions == 0 and list_jobs(ledger) == ()


def test_c14_nothing_is_uploaded_to_a_farm_that_the_project_forbids(
    packed: tuple[SceneContext, Path], farm: MemoryFarm, ledger: Ledger
) -> None:
    elsewhere = CARD.model_copy(update={"operator": Operator(kind="provider", places=("IS",))})
    sending = prepared(packed[1], elsewhere, batch=2)
    with pytest.raises(Blocked, match="machines stand in IS, the project allows DE, NL"):
        start(sending, farm, ledger)
    assert farm.submissions == 0 and farm.blobs == {} and list_jobs(ledger) == ()


def test_c1_c12_the_order_has_the_farms_own_paths_and_what_is_known_to_be_wrong_is_listed(
    packed: tuple[SceneContext, Path], farm: MemoryFarm, ledger: Ledger
) -> None:
    names = CARD.model_copy(update={"outputs": OutputRules(path="name")})
    sent = send(prepared(packed[1], names, batch=2), names, Path("f"), farm.link(), ledger)
    assert farm.order is not None and farm.order.outputs == {
        "Beauty": "lantern_quay_beauty.####.exr",
        "Matte": "lantern_quay_matte.####.exr",
    }
    # a hundred thousand frames are a short order too
    assert farm.order.tasks == (TaskRange(request="main", frames="1001-1048"),)
    assert [finding.code for finding in sent.warnings] == ["output-colour-space-unset"] and sent.waived == ()


def test_u2_a_file_that_changed_after_packing_is_not_uploaded_and_stops_no_other(crate: Path) -> None:
    content, farm = read_packing_list(crate), MemoryFarm()
    (crate / "textures/sky.png").write_bytes(b"changed")
    with pytest.raises(Blocked, match="not as it was packed"):
        Upload(farm).run(sources(crate, content))
    assert len(farm.blobs) == len({file.blake3 for file in content.files}) - 1


def test_u2_progress_counts_bytes_up_to_the_whole(packed: tuple[SceneContext, Path]) -> None:
    content, seen = read_packing_list(packed[1]), []
    progress = lambda step: seen.append((step.done, step.total))  # noqa: E731
    Upload(MemoryFarm(), progress).run(sources(packed[1], content))
    assert seen[-1] == (seen[-1][1], seen[-1][1]) and [done for done, _ in seen] == sorted(done for done, _ in seen)


def test_x3_a_submission_whose_answer_was_lost_is_asked_for_again_and_made_once(
    sending: Sending, farm: MemoryFarm, ledger: Ledger
) -> None:
    farm.forgets = True
    with pytest.raises(FarmError):
        start(sending, farm, ledger)
    (line,) = list_jobs(ledger)
    assert line.state == "sending"
    assert track(ledger, line.job, links(farm)).state == "done"
    assert farm.submissions == 1


def test_f1_a_download_that_breaks_off_goes_on_where_it_was(
    sending: Sending, farm: MemoryFarm, ledger: Ledger, tmp_path: Path
) -> None:
    job = start(sending, farm, ledger)
    farm.breaks = 1
    result = retrieve(ledger, job, tmp_path / "f", links(farm))
    assert len(result.retrieved) == 6 and 100 in farm.asked and result.ended
    for one in result.retrieved:
        assert one.path.read_bytes() == farm.bytes_of(Task("main", one.frame), one.output, 1)
    assert not list((tmp_path / "f").rglob("*.part"))
    assert retrieve(ledger, job, tmp_path / "f", links(farm)).retrieved == ()
    # what is gone, or is not as long as it was, is fetched again
    result.retrieved[0].path.unlink()
    result.retrieved[1].path.write_bytes(b"short")
    again = retrieve(ledger, job, tmp_path / "f", links(farm))
    assert {one.path for one in again.retrieved} == {one.path for one in result.retrieved[:2]}
    # what was there is not known to be ours, and is kept
    assert [path.read_bytes() for path in (tmp_path / "f" / SET_ASIDE).rglob("*found-there*")] == [b"short"]


def test_what_arrives_damaged_each_time_is_thrown_away_and_named(
    sending: Sending, farm: MemoryFarm, ledger: Ledger, tmp_path: Path
) -> None:
    job = start(sending, farm, ledger)
    farm.damages = 1000
    result = retrieve(ledger, job, tmp_path / "f", links(farm))
    assert (len(result.retrieved), len(result.damaged), result.at_home) == (0, 6, 0)
    assert not [path for path in (tmp_path / "f").rglob("*") if path.is_file() and path.name != ".retrieve.lock"]
    review_job(ledger, job)
    assert len(to_rerender(ledger, job).tasks) == 3


def test_one_product_that_the_farm_cannot_give_out_keeps_no_other_away(
    sending: Sending, farm: MemoryFarm, ledger: Ledger, tmp_path: Path
) -> None:
    job = start(sending, farm, ledger)
    farm.lost = {"main/1002|Matte|1"}
    result = retrieve(ledger, job, tmp_path / "f", links(farm), follow=True)
    assert len(result.retrieved) == 5
    assert [(one.frame, one.output, one.why) for one in result.damaged] == [
        (1002, "Matte", "the farm refuses (there is no such product)")
    ]
    farm.lost = {product.key for change in farm.history for product in change.products}
    with pytest.raises(FarmError, match="no such product"):
        retrieve(ledger, job, tmp_path / "elsewhere", links(farm))


@pytest.mark.parametrize(
    "task",
    [Task("other", 1001), Task("main", 5000), Task("main", 1001, "dusk"), Task("main", 1001, tile=0),
     Task("main", 1001, share=0)],
)  # fmt: skip
def test_x4_a_farm_that_reports_what_was_never_ordered_is_refused(
    task: Task, sending: Sending, farm: MemoryFarm, ledger: Ledger, tmp_path: Path
) -> None:
    job = start(sending, farm, ledger)
    farm.history.append(TaskChange(task=task, attempt=Attempt(number=1, state=TaskState.DONE, cost=Decimal(0))))
    with pytest.raises(FarmError, match="that was not ordered"):
        retrieve(ledger, job, tmp_path / "f", links(farm))


def test_x4_outputs_and_attempts_that_cannot_be_are_refused(sending: Sending, farm: MemoryFarm, ledger: Ledger) -> None:
    job = start(sending, farm, ledger)
    good = farm.history[0]
    product = good.products[0]
    for wrong in (
        good.model_copy(update={"products": (product, product)}),
        good.model_copy(update={"products": (product.model_copy(update={"output": "../x"}),)}),
        good.model_copy(update={"attempt": good.attempt.model_copy(update={"number": 0})}),
    ):
        farm.history[0] = wrong
        with pytest.raises(FarmError, match=r"outputs that were not ordered|without a number"):
            track(ledger, job, links(farm))


def test_a_farm_that_bills_in_another_currency_than_its_card_says_is_refused(sending: Sending, ledger: Ledger) -> None:
    farm = MemoryFarm(currency="USD")
    job = start(sending, farm, ledger)
    with pytest.raises(FarmError, match="bills in USD, its card says EUR"):
        track(ledger, job, links(farm))


def test_f5_only_what_the_review_rejected_is_rendered_again_and_only_once(
    sending: Sending, farm: MemoryFarm, ledger: Ledger, tmp_path: Path
) -> None:
    job = start(sending, farm, ledger)
    with pytest.raises(WrongUsage, match="not reviewed"):
        to_rerender(ledger, job)
    retrieve(ledger, job, tmp_path / "f", links(farm))
    review = review_job(ledger, job)
    assert review.count(review.frames[0].verdict) == 6 and not review.clean
    wanted = to_rerender(ledger, job)
    assert [task.frame for task in wanted.tasks] == [1001, 1002, 1003]
    one = wanted.model_copy(update={"tasks": wanted.tasks[:1]})
    rerender(ledger, one, links(farm))
    # asked again, whether by hand or after a kill: the farm renders it once
    rerender(ledger, one, links(farm))
    assert farm.rerendered == [Task("main", 1001)]
    again = retrieve(ledger, job, tmp_path / "f", links(farm))
    assert {(one.frame, one.attempt) for one in again.retrieved} == {(1001, 2)}
    # a verdict on the earlier attempt says nothing about this one, and the earlier file is kept
    states = {(row.frame, row.state) for row in track(ledger, job, links(farm)).frames}
    assert states == {(1001, "retrieved"), (1002, "bad"), (1003, "bad")}
    kept = sorted(path.name for path in (tmp_path / "f" / SET_ASIDE).rglob("*.exr"))
    assert kept == ["lantern_quay_beauty.1001.f-1.attempt1.exr", "lantern_quay_matte.1001.f-1.attempt1.exr"]


@pytest.mark.parametrize("again", [False, True])
def test_f1_a_frame_that_was_changed_at_home_is_set_aside_and_fetched_again(
    sending: Sending, farm: MemoryFarm, ledger: Ledger, tmp_path: Path, again: bool
) -> None:
    """Its size is as it was; with `verify_home` even its time is."""
    job, into = start(sending, farm, ledger), tmp_path / "f"
    retrieve(ledger, job, into, links(farm))
    frame = into / "Beauty/lantern_quay_beauty.1001.exr"
    good, before = frame.read_bytes(), frame.stat()
    untouched = into / "Beauty/lantern_quay_beauty.1002.exr"
    os.utime(untouched, (1, 1))
    frame.write_bytes(b"x" * len(good))
    if again:
        os.utime(frame, ns=(before.st_atime_ns, before.st_mtime_ns))
        assert retrieve(ledger, job, into, links(farm)).retrieved == ()
    found = retrieve(ledger, job, into, links(farm), verify_home=again)
    assert [one.frame for one in found.retrieved] == [1001] and frame.read_bytes() == good
    (aside,) = (into / SET_ASIDE).rglob("*.exr")
    assert aside.read_bytes() == b"x" * len(good)
    (into / "Matte").rename(into / "away")
    (into / "Matte").symlink_to(into / "away")
    (into / "away" / "lantern_quay_matte.1001.exr").unlink()
    with pytest.raises(Blocked, match="a link stands"):
        retrieve(ledger, job, into, links(farm))


def test_what_failed_is_rendered_again_and_what_was_only_never_fetched_is_not(
    sending: Sending, farm: MemoryFarm, ledger: Ledger
) -> None:
    farm.fails = {1002}
    job = start(sending, farm, ledger)
    view = track(ledger, job, links(farm))
    assert view.state == "failed" and view.counts.failed == 1
    assert [(one.frame, one.error) for one in view.troubles] == [(1002, "out of memory")]
    assert log_of(ledger, job, Task("main", 1002), links(farm)) == "log of main/1002 1"
    assert review_job(ledger, job).count(review_job(ledger, job).frames[0].verdict) == 6
    assert to_rerender(ledger, job).tasks == (Task("main", 1002),)


def test_two_submissions_that_deliver_the_same_frame_never_overwrite_each_other(
    sending: Sending, ledger: Ledger, tmp_path: Path
) -> None:
    one, two = MemoryFarm("one"), MemoryFarm("two")
    job = start(sending, one, ledger, name="one")
    assert start(sending, two, ledger, job=job, name="two") == job
    into, reach = tmp_path / "f", links(one, two)
    first = retrieve(ledger, job, into, reach)
    assert len(first.retrieved) == 12 and first.at_home == 6
    frame = into / "Beauty/lantern_quay_beauty.1001.exr"
    other = into / SET_ASIDE / "Beauty/lantern_quay_beauty.1001.two-2.attempt1.exr"
    assert frame.read_bytes() == one.bytes_of(Task("main", 1001), "Beauty", 1)
    assert other.read_bytes() == two.bytes_of(Task("main", 1001), "Beauty", 1)
    # however often it is repeated, nothing moves and nothing is fetched again
    fetched = len(one.fetched) + len(two.fetched)
    for _ in range(3):
        assert retrieve(ledger, job, into, reach).retrieved == ()
    assert len(one.fetched) + len(two.fetched) == fetched
    assert frame.read_bytes() == one.bytes_of(Task("main", 1001), "Beauty", 1)
    view = track(ledger, job, reach)
    assert view.farms == ("one", "two") and view.cost == Decimal("0.6") and view.total == 6
    # rendered again is only what counts and was rejected, where it was rendered
    review_job(ledger, job)
    rerender(ledger, to_rerender(ledger, job), reach)
    assert len(one.rerendered) == 3 and two.rerendered == []


def test_a_range_is_split_over_two_farms_and_comes_home_as_one(
    sending: Sending, ledger: Ledger, tmp_path: Path
) -> None:
    one, two = MemoryFarm("one"), MemoryFarm("two", currency="USD")
    left = sending.of((TaskRange(request="main", frames="1001-1002"),))
    right = sending.of((TaskRange(request="main", frames="1003"),))
    job = start(left, one, ledger, name="one")
    usd = CARD.model_copy(update={"name": "two", "currency": "USD"})
    send(right, usd, Path("two.farm.toml"), two.link(), ledger, job=job)
    result = retrieve(ledger, job, tmp_path / "f", links(one, two))
    assert len(result.retrieved) == result.at_home == 6 and not result.missing
    view = track(ledger, job, links(one, two))
    # amounts of two currencies have no sum
    assert view.cost is None and view.currency == "" and view.forecast.cost is None
    assert view.costs == {"EUR": Decimal("0.2"), "USD": Decimal("0.1")}
    (line,) = list_jobs(ledger)
    assert line.cost is None and line.costs == view.costs
    with pytest.raises(WrongUsage, match="made of another crate"):
        start(of_request(sending, frames="1001"), one, ledger, job=job, name="one")
    with pytest.raises(WrongUsage, match="a frame that the request does not have"):
        sending.of((TaskRange(request="main", frames="999"),))


def test_tiles_shares_and_views_have_files_of_their_own(sending: Sending, ledger: Ledger, tmp_path: Path) -> None:
    farm = MemoryFarm()
    views = (View(name="dusk", camera="/A"), View(name="fog", camera="/B"))
    split = of_request(sending, frames="1001", tiles=(2, 2), shares=2, samples=4, views=[v.model_dump() for v in views])
    assert split.tasks == 16 and split.products == 32
    job = start(split, farm, ledger)
    result = retrieve(ledger, job, tmp_path / "f", links(farm))
    paths = {one.path.relative_to(tmp_path / "f").as_posix() for one in result.retrieved}
    assert len(paths) == 32 and not result.missing
    assert "fog/Matte/lantern_quay_matte.tile03.share001.1001.exr" in paths
    assert {(row.view, row.tile, row.share) for row in track(ledger, job, links(farm)).frames} == {
        (view, tile, share) for view in ("dusk", "fog") for tile in range(4) for share in range(2)
    }
    assert len(review_job(ledger, job).frames) == 32


def test_changes_come_in_pages_and_cost_what_has_changed(sending: Sending, farm: MemoryFarm, ledger: Ledger) -> None:
    many = of_request(sending, frames="1001-1048")
    job = start(many, farm, ledger)
    farm.page = 10
    assert track(ledger, job, links(farm)).done == 48 and farm.pages == 5
    for _ in range(3):
        track(ledger, job, links(farm), frames=False)
    assert farm.pages == 5
    farm.render(Task("main", 1005), 2)
    view = track(ledger, job, links(farm))
    assert farm.pages == 6 and {row.attempt for row in view.frames if row.frame == 1005} == {2}


def test_a_farm_whose_changes_have_no_end_is_refused(sending: Sending, ledger: Ledger) -> None:
    class Endless(MemoryFarm):
        def changes(self, job, cursor):  # type: ignore[no-untyped-def]
            return super().changes(job, cursor).model_copy(update={"more": True, "cursor": cursor})

    farm = Endless()
    job = start(sending, farm, ledger)
    with pytest.raises(FarmError, match="have no end"):
        track(ledger, job, links(farm))


def test_a_farm_without_a_capability_says_what_it_cannot_do(sending: Sending, ledger: Ledger, tmp_path: Path) -> None:
    farm = FolderFarm()
    job = start(sending, farm, ledger)
    assert len(retrieve(ledger, job, tmp_path / "f", links(farm)).retrieved) == 6
    review_job(ledger, job)
    with pytest.raises(FarmError, match="cannot change a job"):
        rerender(ledger, to_rerender(ledger, job), links(farm))
    with pytest.raises(FarmError, match="cannot change a job"):
        cancel(ledger, job, links(farm))
    whole_link = MemoryFarm().link()

    def without(**gone: None) -> FarmLink:
        return replace(whole_link, **gone)

    for gone, words in (({"deliver": None}, "cannot take a crate"), ({"submit": None}, "cannot take an order")):
        with pytest.raises(FarmError, match=words) as caught:
            send(sending, CARD, Path("f"), without(**gone), ledger, again=True)
        assert caught.value.remedy
    for gone, words in (({"changes": None}, "how a job stands"), ({"fetch": None}, "cannot give out frames")):
        with pytest.raises(FarmError, match=words):
            retrieve(ledger, start(sending, MemoryFarm(), ledger), tmp_path / "g", lambda _, gone=gone: without(**gone))
    some = MemoryFarm()
    some.actions = frozenset({"rerender"})  # type: ignore[assignment]
    with pytest.raises(FarmError, match="cannot cancel a job") as caught:
        cancel(ledger, start(sending, some, ledger), links(some))
    assert "rerender" in (caught.value.remedy or "")


def test_a_balance_that_does_not_cover_the_job_stops_it(sending: Sending, farm: MemoryFarm, ledger: Ledger) -> None:
    from tidy_crate.core.estimate.estimate import Question, estimate
    from tidy_crate.core.estimate.timings import FrameTiming, Timings

    timings = Timings((FrameTiming("main", 1001, 3600.0),), 0.0, "measured")
    quote = estimate(Question(sending.packing, timings, (CARD,))).estimate.quotes[0]
    farm.balance = Decimal(1)
    with pytest.raises(FarmError, match="balance"):
        send(sending, CARD, Path("f"), farm.link(), ledger, quote)
    assert farm.blobs == {}
    farm.balance = quote.cost.likely
    assert send(sending, CARD, Path("f"), farm.link(), ledger, quote).job


class Unsteady(MemoryFarm):
    """A farm that takes an order and is gone before it has said so."""

    def __init__(self, failures: int = 1) -> None:
        super().__init__()
        self.failures = failures
        self.order_keys: list[str] = []
        self.meanwhile: list[Sent] = []

    def submit(self, order):  # type: ignore[no-untyped-def]
        self.order_keys.append(order.key)
        name = super().submit(order)
        if self.failures:
            self.failures -= 1
            raise FarmError("the farm cannot be reached", "f")
        return name


def placed(sending: Sending, farm: MemoryFarm, ledger: Ledger, **more: bool) -> Sent:
    return send(sending, CARD, Path("f"), farm.link(), ledger, **more)


def test_e_a_send_that_the_farm_did_not_confirm_goes_on_with_its_own_key(
    sending: Sending,
    ledger: Ledger,
) -> None:
    farm = Unsteady(failures=2)
    for _ in range(2):
        with pytest.raises(FarmError):
            placed(sending, farm, ledger)
    sent = placed(sending, farm, ledger)
    assert sent.continued and len(set(farm.order_keys)) == 1
    assert [one.job for one in list_jobs(ledger)] == [sent.job]


def test_e_the_same_crate_and_frames_are_not_sent_twice_unasked(
    sending: Sending,
    ledger: Ledger,
) -> None:
    farm = Unsteady(failures=0)
    first = placed(sending, farm, ledger)
    with pytest.raises(WrongUsage, match=f"already, as {first.job}") as refused:
        placed(sending, farm, ledger)
    assert "--again" in (refused.value.remedy or "") and len(farm.order_keys) == 1
    second = placed(sending, farm, ledger, again=True)
    assert second.job != first.job and len(set(farm.order_keys)) == 2


def test_e_what_was_cancelled_may_be_sent_again(sending: Sending, ledger: Ledger) -> None:
    farm = Unsteady(failures=0)
    first = placed(sending, farm, ledger)
    with ledger.writing() as session:
        session.scalars(select(SubmissionRow)).one().state = "cancelled"
    assert placed(sending, farm, ledger).job != first.job


def test_e_two_sends_at_once_are_one_order(sending: Sending, ledger: Ledger) -> None:
    class Slow(Unsteady):
        def submit(self, order_):  # type: ignore[no-untyped-def]
            if not self.order_keys:
                self.order_keys.append(order_.key)
                # while this one is on its way, another process sends the same
                self.meanwhile.append(placed(sending, self, ledger))
                self.order_keys.pop(0)
            return super().submit(order_)

    farm = Slow(failures=0)
    sent = placed(sending, farm, ledger)
    assert len(set(farm.order_keys)) == 1
    assert farm.meanwhile[0].job == sent.job and farm.meanwhile[0].continued


def test_e_two_cards_of_one_name_are_two_farms_and_one_farm_is_one_whatever_its_card_is_called(
    sending: Sending, ledger: Ledger
) -> None:
    first = placed(sending, Unsteady(failures=0), ledger)

    def again(farm: MemoryFarm, **card: object) -> Sent:
        return send(sending, CARD.model_copy(update=card), Path("f"), farm.link(), ledger)

    assert again(Unsteady(failures=0), url="https://elsewhere.invalid").job != first.job
    with pytest.raises(WrongUsage, match=f"already, as {first.job}"):
        again(Unsteady(failures=0), name="by-another-name", url="HTTPS://F.invalid:443/")
    # another account at the same farm is another bill
    other = Unsteady(failures=0)
    other.user = "somebody"
    assert again(other).job != first.job
    # a farm that says who it is may move
    marked = {"identity": "quay-1", "url": "http://127.0.0.1:1"}
    second = again(Unsteady(failures=0), **marked)
    with pytest.raises(WrongUsage, match=f"already, as {second.job}"):
        again(Unsteady(failures=0), **marked | {"url": "http://127.0.0.1:2"})


def home(sending: Sending, farm: MemoryFarm, ledger: Ledger, into: Path) -> str:
    """A job whose frames are at home, and good by a person's word."""
    job = start(sending, farm, ledger)
    retrieve(ledger, job, into, links(farm))
    review_job(ledger, job)
    decide(ledger, job, judged_products(ledger, job), accept=True, because="looked at", links=links(farm))
    return job


def test_f5_a_decision_while_the_farm_is_away_holds_and_is_told_later(
    sending: Sending, farm: MemoryFarm, ledger: Ledger, tmp_path: Path
) -> None:
    job = start(sending, farm, ledger)
    retrieve(ledger, job, tmp_path, links(farm))
    review_job(ledger, job)

    class Away(MemoryFarm):
        def control(self, job: str, order: ControlOrder) -> None:
            raise FarmBusy("nothing answers there", self.name)

    away = Away()
    away.order, away.history, away.keys = farm.order, farm.history, farm.keys
    said = decide(ledger, job, judged_products(ledger, job), accept=False, because="flat", links=links(away))
    assert said.later == ("f",) and said.told == () and said.decision is Verdict.BAD
    assert {one.verdict for one in judged_products(ledger, job)} == {Verdict.BAD}
    told: list[ControlOrder] = []
    farm.control = lambda job, order: told.append(order)  # type: ignore[method-assign]
    for _ in range(2):
        track(ledger, job, links(farm))
    assert [one.action for one in told] == [Action.REJECT]


def test_f7_a_delivery_is_as_a_whole_or_not_at_all_and_leaves_other_files_alone(
    sending: Sending, farm: MemoryFarm, ledger: Ledger, tmp_path: Path
) -> None:
    job = home(sending, farm, ledger, tmp_path / "frames")
    target = tmp_path / "delivery"
    target.mkdir()
    (target / "notes.txt").write_text("mine")
    names = {one.path for one in deliver(ledger, job, target).delivered}
    assert names and all((target / name).is_file() for name in names)
    # an earlier delivery had a frame that this one has not: it goes, and nothing else does
    (target / "old.exr").write_bytes(b"stale")
    digests = target / "digests.txt"
    digests.write_text(digests.read_text() + f"{'a' * 64}  old.exr\n{'b' * 64}  ../frames/escape\n")
    (tmp_path / "frames" / "escape").write_text("stays")
    deliver(ledger, job, target)
    assert not (target / "old.exr").exists() and (target / "notes.txt").read_text() == "mine"
    assert (tmp_path / "frames" / "escape").read_text() == "stays" and "old.exr" not in digests.read_text()
    # a frame that was changed at home: what stood there before stays, to the last byte
    before = tree(target)
    with ledger.reading() as session:
        path = next(Path(row.path or "") for row in session.scalars(select(ProductRow).where(ProductRow.in_use)))
    path.write_bytes(path.read_bytes() + b"x")
    with pytest.raises(Blocked, match="changed since it came home"):
        deliver(ledger, job, target)
    assert tree(target) == before and [one.name for one in tmp_path.iterdir() if one.name.startswith(".")] == []
    path.write_bytes(path.read_bytes()[:-1])
    # a file of somebody else under a frame's name
    other = tmp_path / "other"
    (other / next(iter(names))).parent.mkdir(parents=True)
    (other / next(iter(names))).write_text("theirs")
    with pytest.raises(WrongUsage, match="not delivered by tidy-crate"):
        deliver(ledger, job, other)
    assert (other / next(iter(names))).read_text() == "theirs"


def test_t1_a_farm_that_does_not_answer_is_shown_as_it_was_last_heard(
    sending: Sending, farm: MemoryFarm, ledger: Ledger, monkeypatch: pytest.MonkeyPatch
) -> None:
    farm.fails = {1002}
    job = start(sending, farm, ledger)
    before = track(ledger, job, links(farm))
    dead = replace(farm.link(), changes=_Dead())
    with pytest.raises(FarmBusy):
        track(ledger, job, lambda _: dead)
    view = track(ledger, job, lambda _: dead, last_known=True)
    assert view.counts == before.counts and view.frames == before.frames and view.state == before.state
    assert [one.trouble for one in view.unheard] == ["nobody answers; try later"]
    heard = view.at[0].heard
    assert heard is not None and 0 <= (datetime.now(UTC) - heard).total_seconds() < 60
    assert view.finish is None and view.forecast.seconds_left is None
    # the age is by our clock, whatever the farm's says
    monkeypatch.setattr("tidy_crate.cli.track_view.datetime", _Later)
    out = io.StringIO()
    Console(width=140, file=out).print(job_view(view, frame_grid(ledger, job, 40), Room(140, 40)))
    assert "does not answer; as it was 3 h" in out.getvalue()


class _Dead:
    def summary(self, job: str) -> None:
        raise FarmBusy("nobody answers", "f", "try later")


class _Later(datetime):
    @classmethod
    def now(cls, tz: tzinfo | None = None) -> _Later:
        return super().now(tz) + timedelta(hours=3)
