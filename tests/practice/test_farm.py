"""The practice farm over a real socket: signing in, uploading, rendering, faults, and being killed."""

from __future__ import annotations

import contextlib
import os
import sqlite3
import time
from collections.abc import Callable, Iterator
from datetime import date
from decimal import Decimal
from pathlib import Path

import httpx
import psutil
import pytest
from blake3 import blake3

from farms import prepared, sources
from servers import Line
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.crate.packing import PackingList, read_packing_list
from tidy_crate.core.errors import Blocked, FarmError
from tidy_crate.core.farm.card import read_card
from tidy_crate.core.farm.links.http import HttpFarm
from tidy_crate.core.farm.protocol import (
    Action,
    ControlOrder,
    JobOrder,
    JobState,
    JobSummary,
    Reading,
    TaskChange,
)
from tidy_crate.core.files import hash_file, read_json
from tidy_crate.core.job.forecast import Part, Rendered, forecast
from tidy_crate.core.job.ledger import Ledger, new_key, submissions_of
from tidy_crate.core.job.prepare import Sending
from tidy_crate.core.job.retrieve import retrieve
from tidy_crate.core.job.send import compare, send
from tidy_crate.core.job.track import track
from tidy_crate.core.review.run import review_job
from tidy_crate.core.transfer.pack import Piece
from tidy_crate.core.transfer.upload import Source, Upload, Uploaded
from tidy_crate.core.work.product import SET_ASIDE
from tidy_crate.core.work.request import RenderRequest
from tidy_crate.core.work.task import Task, TaskRange, TaskState, whole
from tidy_crate.practice.farm import control
from tidy_crate.practice.farm.settings import FarmSettings, takes_path

TODAY = date(2026, 11, 20)

FAULTS = ("invalid:1002:Beauty", "truncated:1003:Matte", "damaged:1004:Beauty")


@pytest.fixture(scope="module")
def farm(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    folder = tmp_path_factory.mktemp("farm")
    settings = FarmSettings.model_validate({"nodes": 2, "faults": FAULTS})
    control.start(folder, settings)
    yield folder
    control.stop(folder)


def open_farm(folder: Path) -> HttpFarm:
    card = read_card(folder / "practice.farm.toml")
    return HttpFarm(card.name, card.url, (folder / "token").read_text())


@pytest.fixture
def link(farm: Path) -> Iterator[HttpFarm]:
    opened = open_farm(farm)
    yield opened
    opened.close()


@pytest.fixture(scope="module")
def short(packed: tuple[SceneContext, Path]) -> tuple[Path, PackingList]:
    """The crate, to be rendered on six frames and small."""
    content = read_packing_list(packed[1])
    request = content.requests[0].model_copy(update={"frames": "1001-1006", "width": 64, "height": 36, "samples": 1})
    return packed[1], content.model_copy(update={"requests": (request,)})


def upload(crate: Path, content: PackingList, link: HttpFarm) -> Uploaded:
    return Upload(link).run(sources(crate, content))


def order_for(link: HttpFarm, short: tuple[Path, PackingList], **changes: object) -> JobOrder:
    upload(*short, link)
    crate = link.register(short[1]).crate
    request = RenderRequest.model_validate(short[1].requests[0].model_dump() | changes)
    return JobOrder(
        key=new_key(), crate=crate, requests=(request,), tasks=whole([request]), batch=2, nodes=2, machine="standard"
    )


def again(order: JobOrder, action: Action = Action.RERENDER, **ranges: str) -> ControlOrder:
    tasks = (TaskRange(request=order.requests[0].name, **ranges),) if ranges else ()  # type: ignore[arg-type]
    return ControlOrder(key=new_key(), action=action, tasks=tasks)


def wait_for(ask: Callable[[], JobSummary], until: Callable[[JobSummary], bool], seconds: float = 60) -> JobSummary:
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        found = ask()
        if until(found):
            return found
        time.sleep(0.05)
    raise AssertionError("the farm did not get there in time")


def done(link: HttpFarm, job: str) -> JobSummary:
    return wait_for(lambda: link.summary(job), lambda found: found.state is JobState.DONE)


def everything(link: HttpFarm, job: str) -> list[TaskChange]:
    """All tasks of a job, page by page."""
    return [change for page in link.pages(job) for change in page.tasks]


@pytest.mark.parametrize(
    ("method", "path", "body"),
    [
        ("POST", "/pay?amount=NaN", None), ("POST", "/pay?amount=Infinity", None), ("POST", "/pay?amount=-5", None),
        ("POST", "/pay?amount=1e400", None), ("GET", f"/v3/jobs/x/logs/{2**63}", None),
        ("GET", f"/v3/jobs/x/tasks?begin={2**63}", None), ("GET", f"/v3/jobs/x/changes?since={'9' * 5000}", None),
        ("POST", "/faults", b'{"slow": NaN}'), ("POST", "/v3/crates", b"[" * 100_000),
        ("POST", "/v3/blobs/missing", b'{"blobs": [{"blake3": "' + b"0" * 64 + b'", "bytes": 9223372036854775808}]}'),
    ],
)  # fmt: skip
def test_numbers_that_are_none_are_refused(farm: Path, method: str, path: str, body: bytes | None) -> None:
    url, token = read_card(farm / "practice.farm.toml").url, (farm / "token").read_text()
    headers = {"Authorization": f"Bearer {token}", "Content-Type": "application/json"}
    answer = httpx.request(method, url + path, headers=headers, content=body, trust_env=False)
    assert answer.status_code in (400, 404, 422), answer.text


def test_u1_a_wrong_token_is_refused_and_never_shown(link: HttpFarm, farm: Path) -> None:
    url = read_card(farm / "practice.farm.toml").url
    wrong = HttpFarm("practice", url, "not-the-token")
    with pytest.raises(FarmError) as caught:
        wrong.account()
    assert "not-the-token" not in str(caught.value)
    assert link.account().balance > 0
    token = (farm / "token").read_text()
    assert token not in (farm / "practice.farm.toml").read_text()
    assert httpx.get(f"{url}/v3/jobs/000001", trust_env=False).status_code == 401


def test_a_farm_that_is_not_there_is_one_clear_error() -> None:
    with pytest.raises(FarmError, match="nothing answers there"):
        HttpFarm("gone", "http://127.0.0.1:9", "t", patience=0.001).account()


def test_u2_only_what_the_farm_lacks_is_sent_and_verified(
    link: HttpFarm, short: tuple[Path, PackingList], tmp_path: Path
) -> None:
    upload(*short, link)
    assert upload(*short, link).sent == 0
    path = tmp_path / "x"
    path.write_bytes(b"other content")
    other = Source("0" * 64, 13, path)
    assert link.missing([other]) == {other.blake3}
    (refused,) = link.take([Piece(other.blake3, 0, other.blake3, path.read_bytes())])
    assert "not what its digest says" in refused.why and link.missing([other]) == {other.blake3}


@pytest.mark.parametrize(("size", "at", "most"), [(400_000, 5_500_000, 2_000_000), (9_000_000, 15_000_000, 6_500_000)])
def test_u2_a_break_costs_a_piece_and_not_the_pack(farm: Path, tmp_path: Path, size: int, at: int, most: int) -> None:
    line = Line(int(read_card(farm / "practice.farm.toml").url.rpartition(":")[2]))
    link = HttpFarm("practice", f"http://127.0.0.1:{line.port}", (farm / "token").read_text(), patience=0.05)
    every = []
    for number in range(max(2, 7_000_000 // size)):
        path = tmp_path / f"{number}"
        path.write_bytes(os.urandom(size))
        every.append(Source(hash_file(path), size, path))
    total, broken = sum(one.bytes for one in every), []
    line.break_at(at, None, lambda: broken.append(line.up))
    done = Upload(link, lambda _: None).run(every)
    line.close()
    assert broken and not link.missing(every) and done.sent + done.had == total
    # beyond the contents: of each connection the piece that was under way, and what its sockets held
    assert line.up < total + most


def test_u10_the_farm_reads_the_crate_as_the_survey_did(link: HttpFarm, short: tuple[Path, PackingList]) -> None:
    upload(*short, link)
    reading = link.register(short[1]).reading
    assert compare(short[1], reading) == []
    assert isinstance(reading, Reading)
    wrong = reading.model_copy(update={"start": 1, "fps": 24.0, "missing": ("textures/gone.png",), "camera": "/Other"})
    assert len(compare(short[1], wrong)) == 4


def test_x4_the_farm_refuses_a_hostile_crate(farm: Path, link: HttpFarm, short: tuple[Path, PackingList]) -> None:
    upload(*short, link)
    content = short[1]
    for path in ("../../escaped.txt", "/tmp/escaped.txt"):
        hostile = content.files[0].model_copy(update={"path": path})
        with pytest.raises(FarmError, match="does not stay inside"):
            link.register(content.model_copy(update={"files": (hostile, *content.files[1:])}))
    assert not list(farm.rglob("escaped.txt"))


@pytest.mark.parametrize("what", ["no files", "no scene", "twice", "below a file", "long", "long name"])
def test_x4_a_crate_that_no_folder_can_hold_is_refused_and_leaves_nothing(
    what: str, farm: Path, link: HttpFarm, short: tuple[Path, PackingList]
) -> None:
    upload(*short, link)
    content, first = short[1], short[1].files[0]
    others = {
        "no files": (),
        "no scene": tuple(one for one in content.files if one.path != content.scene),
        "twice": (*content.files, first),
        "below a file": (*content.files, first.model_copy(update={"path": f"{content.scene}/x.png"})),
        "long": (*content.files, first.model_copy(update={"path": "a/" * 2500 + "x.png"})),
        "long name": (*content.files, first.model_copy(update={"path": "x" * 256})),
    }
    with pytest.raises(FarmError, match="the farm refuses"):
        link.register(content.model_copy(update={"files": others[what]}))
    assert not list((farm / "crates").glob("*.part"))


def test_x4_a_blob_is_as_large_as_it_was_announced(farm: Path, link: HttpFarm) -> None:
    from blake3 import blake3

    url = read_card(farm / "practice.farm.toml").url
    headers = {"Authorization": f"Bearer {(farm / 'token').read_text()}"}
    digest = blake3(b"x" * 32).hexdigest()
    put = f"{url}/v3/blobs/{digest}"
    assert httpx.put(put, content=b"x" * 32, headers=headers).status_code == 428
    assert link.missing([Source(digest, 32, Path("x"))]) == {digest}
    sent = 0

    def endless() -> Iterator[bytes]:
        nonlocal sent
        while sent < 600 << 20:
            sent += 1 << 20
            yield bytes(1 << 20)

    for told in ({}, {"Content-Length": str(600 << 20)}):
        with contextlib.suppress(httpx.HTTPError):
            assert httpx.put(put, content=endless(), headers=headers | told).status_code == 413
        assert sent < 100 << 20
    assert httpx.put(put, content=b"x" * 32, headers=headers).status_code == 201


def test_x4_nothing_is_told_without_a_token_and_a_crate_has_no_path(
    farm: Path, link: HttpFarm, short: tuple[Path, PackingList]
) -> None:
    url = read_card(farm / "practice.farm.toml").url
    for path in ("/openapi.json", "/docs", "/v3/account", "/hello"):
        assert httpx.get(f"{url}{path}").status_code in (401, 404)
    order = order_for(link, short)
    for name in (f"x/../{order.crate}", f"./{order.crate}", "..", "a" * 24):
        with pytest.raises(FarmError, match="no such crate"):
            link.submit(order.model_copy(update={"crate": name}))


def test_one_submission_sent_twice_is_one_job(link: HttpFarm, short: tuple[Path, PackingList]) -> None:
    order = order_for(link, short)
    job = link.submit(order)
    assert link.submit(order) == job
    stop = again(order, Action.CANCEL)
    link.control(job, stop)
    link.control(job, stop)
    found = link.summary(job)
    assert found.state is JobState.CANCELLED and found.counts.total == 6 and found.counts.cancelled >= 1


def test_rendering_one_frame_again_after_a_cancel_renders_that_one_only(
    link: HttpFarm, short: tuple[Path, PackingList]
) -> None:
    order = order_for(link, short, frames="1001-1040", width=16, height=9)
    job = link.submit(order)
    wait_for(lambda: link.summary(job), lambda found: found.counts.done >= 1)
    link.control(job, again(order, Action.CANCEL))
    stopped = wait_for(lambda: link.summary(job), lambda found: found.counts.rendering == 0)
    assert stopped.counts.cancelled > 20
    link.control(job, again(order, frames="1001"))
    found = done(link, job)
    assert found.counts.done == stopped.counts.done and found.counts.cancelled == stopped.counts.cancelled
    assert next(one for one in everything(link, job) if one.task.frame == 1001).attempt.number == 2


def test_a_paused_job_begins_no_batch_until_it_is_resumed(link: HttpFarm, short: tuple[Path, PackingList]) -> None:
    order = order_for(link, short, frames="1001-1012", width=16, height=9)
    job = link.submit(order)
    wait_for(lambda: link.summary(job), lambda found: found.counts.done >= 1)
    link.control(job, again(order, Action.PAUSE))
    wait_for(lambda: link.summary(job), lambda found: found.counts.rendering == 0)
    held = link.summary(job)
    time.sleep(0.3)
    assert held.state is JobState.PAUSED and link.summary(job).counts == held.counts and held.counts.waiting > 0
    link.control(job, again(order, Action.RESUME))
    assert done(link, job).counts.done == 12


def test_c1_paths_that_the_card_does_not_allow_are_refused(link: HttpFarm, short: tuple[Path, PackingList]) -> None:
    order = order_for(link, short)
    for path in ("/mnt/a.####.exr", "../a.####.exr", "Q:/a.####.exr"):
        with pytest.raises(FarmError, match="is not relative"):
            link.submit(order.model_copy(update={"outputs": {"Beauty": path}}))
    assert takes_path("name", "a.exr") and not takes_path("name", "b/a.exr")
    job = link.submit(order.model_copy(update={"outputs": {"Beauty": "b/a.####.exr"}}))
    link.control(job, again(order, Action.CANCEL))
    for strange in ({"request": "other"}, {"request": "main", "frames": "9"}, {"request": "main", "tiles": "0"}):
        tasks = (TaskRange.model_validate({"frames": "1001"} | strange),)
        if strange.get("tiles") != "0":
            with pytest.raises(FarmError, match=r"name a (request|frame)"):
                link.submit(order.model_copy(update={"key": new_key(), "tasks": tasks}))


def on_six_frames(sending: Sending) -> Sending:
    request = sending.packing.requests[0].model_copy(update={"frames": "1001-1006", "width": 64, "height": 36})
    packing = sending.packing.model_copy(update={"requests": (request,)})
    return sending.model_copy(update={"packing": packing}).of(whole([request]))


def test_a_job_comes_home_verified_and_its_faults_are_found(
    farm: Path, link: HttpFarm, packed: tuple[SceneContext, Path], tmp_path: Path
) -> None:
    card_path = farm / "practice.farm.toml"
    card, ledger, links = read_card(card_path), Ledger(tmp_path / "ledger.sqlite"), lambda _: link.link()
    sending = on_six_frames(prepared(packed[1], card, batch=2))
    job = send(sending, card, card_path, link.link(), ledger).job
    result = retrieve(ledger, job, tmp_path / "frames", links, follow=True)
    # the one damaged in transit was fetched again
    assert (len(result.retrieved), result.missing, result.damaged) == (12, (), ())
    assert retrieve(ledger, job, tmp_path / "frames", links).retrieved == ()
    bad = {
        (one.frame, one.output): one.reasons[0] for one in review_job(ledger, job).frames if one.verdict.value != "good"
    }
    assert set(bad) == {(1002, "Beauty"), (1003, "Matte")}
    assert "invalid numbers" in bad[(1002, "Beauty")]
    (row,) = submissions_of(ledger, job)[1]
    order = JobOrder.model_validate_json(row.order)
    link.control(row.farm_job or "", again(order, frames="1002-1003"))
    assert len(retrieve(ledger, job, tmp_path / "frames", links, follow=True).retrieved) == 4
    assert review_job(ledger, job).clean
    # nothing is lost: what was replaced is set aside
    assert len(list((tmp_path / "frames" / SET_ASIDE).rglob("*.practice-1.attempt1.exr"))) == 4
    view = track(ledger, job, links)
    assert {row.attempt for row in view.frames if row.frame in (1002, 1003)} == {2}
    assert float(view.cost or 0) == pytest.approx(sum(float(node.cost) for node in view.nodes), abs=1e-3)
    assert view.cost and view.clock > 40


def test_event_clock_bills_start_up_and_processor_time_and_not_waiting(
    link: HttpFarm, short: tuple[Path, PackingList]
) -> None:
    job = link.submit(order_for(link, short))
    summary, found = done(link, job), everything(link, job)
    nodes = link.changes(job, "").nodes
    for node in nodes:
        worked = sum(one.attempt.billed or 0 for one in found if one.attempt.node == node.name)
        assert (node.until - node.began).total_seconds() == pytest.approx(40 + worked, abs=1e-3)
    assert summary.now == max(node.until for node in nodes)
    first = min(found, key=lambda one: one.attempt.began or summary.now).attempt
    assert first.began and (first.began - summary.submitted).total_seconds() == pytest.approx(40, abs=1e-3)
    assert "done in" in link.log(job, first.log) and str(found[0].task) in link.log(job, found[0].attempt.log)
    with pytest.raises(FarmError, match="no such log"):
        link.log("000000", first.log)


def test_the_same_changes_come_in_pages_since_a_cursor_and_as_events(
    link: HttpFarm, short: tuple[Path, PackingList], farm: Path
) -> None:
    job = link.submit(order_for(link, short))
    done(link, job)
    whole_list = link.changes(job, "")
    assert not whole_list.more and link.changes(job, whole_list.cursor).tasks == ()
    seen, cursor, more = [], "", True
    url, headers = (
        read_card(farm / "practice.farm.toml").url,
        {"Authorization": f"Bearer {(farm / 'token').read_text()}"},
    )
    with httpx.Client(base_url=url, headers=headers, trust_env=False) as client:
        while more:
            page = client.get(f"/v3/jobs/{job}/changes", params={"since": cursor, "limit": 2}).json()
            seen, cursor, more = [*seen, *page["tasks"]], page["cursor"], page["more"]
        assert [one["task"]["frame"] for one in seen] == [one.task.frame for one in whole_list.tasks]
        assert cursor == whole_list.cursor
        middle = str(int(cursor) // 2)
        with client.stream("GET", f"/v3/jobs/{job}/events", headers={"Last-Event-ID": middle}) as events:
            lines = []
            for line in events.iter_lines():
                lines.append(line)
                if not line:
                    break
        assert lines[0] == f"id: {cursor}"
        assert lines[1] == f"data: {link.changes(job, middle).model_dump_json()}"
        assert client.get(f"/v3/jobs/{job}/changes", params={"since": "999999"}).status_code == 422
        assert client.get(f"/v3/jobs/{job}/changes", params={"since": "x"}).status_code == 422
    began = time.monotonic()
    link.wait(job, middle, 20)
    assert time.monotonic() - began < 5
    link.wait(job, cursor, 0.3)
    assert time.monotonic() - began >= 0.3


def test_u4_tiles_are_rendered_apart_and_are_parts_of_one_picture(
    link: HttpFarm, short: tuple[Path, PackingList], tmp_path: Path
) -> None:
    import OpenEXR

    job = link.submit(order_for(link, short, frames="1001-1002", tiles=(2, 1), outputs=("Beauty",)))
    done(link, job)
    found = everything(link, job)
    assert [one.task for one in found] == [Task("main", f, tile=t) for f in (1001, 1002) for t in (0, 1)]
    for one in found:
        target = tmp_path / one.products[0].key
        link.fetch(job, one.products[0], target, 0, lambda _: None)
        header = OpenEXR.File(str(target)).header()
        left = 32 * (one.task.tile or 0)
        assert [int(n) for n in (*header["dataWindow"][0], *header["dataWindow"][1])] == [left, 0, left + 31, 35]


def test_t2_the_forecast_in_the_middle_is_near_the_bill_at_the_end() -> None:
    # 40 of 100 frames of 10 s are done on 4 nodes that started in 40 s each, at 24 an hour
    known = Rendered(count=40, mean=10.0, deviation=1.0, alike=0.0)
    spent = Decimal("560") / 3600 * 24
    found = forecast([Part(60, known, 4, 560.0, spent, "EUR")])
    assert found.seconds_left == pytest.approx(150) and found.cost is not None and found.seconds is not None
    assert float(found.cost.likely) == pytest.approx((560 + 600) / 3600 * 24, abs=0.001)
    assert found.seconds.low < 150 < found.seconds.high and found.cost.low < found.cost.likely < found.cost.high
    alike = forecast([Part(60, Rendered(40, 10.0, 1.0, 0.9), 4, 560.0, spent, "EUR")])
    assert alike.seconds is not None and alike.seconds.high > found.seconds.high
    assert forecast([Part(60, None, 4, 10.0, spent, "EUR")]).seconds_left is None
    done = forecast([Part(0, known, 0, 560.0, spent, "EUR")])
    assert done.cost is not None and done.cost.low == done.cost.high == spent and done.seconds_left == 0


def test_x3_a_farm_that_is_killed_goes_on_where_it_was(short: tuple[Path, PackingList], tmp_path: Path) -> None:
    folder = tmp_path / "farm"
    control.start(folder, FarmSettings(nodes=1))
    link = open_farm(folder)
    job = link.submit(order_for(link, short))
    wait_for(lambda: link.summary(job), lambda found: found.counts.done >= 1)
    pid = read_json(folder / control.RUNNING, "state")["pid"]
    nodes = psutil.Process(pid).children(recursive=True)
    psutil.Process(pid).kill()
    # no node outlives its farm
    assert nodes and not psutil.wait_procs(nodes, timeout=20)[1]
    link.close()
    assert control.running(folder) is None
    control.start(folder, FarmSettings(nodes=1))
    try:
        link = open_farm(folder)
        done(link, job)
        found = everything(link, job)
        assert all(one.attempt.state is TaskState.DONE and len(one.products) == 2 for one in found)
        target = tmp_path / "frame.exr"
        product = found[0].products[0]
        # resumed in the middle, as after a break
        link.fetch(job, product, target, 0, lambda _: None)
        target.write_bytes(target.read_bytes()[: product.bytes // 3])
        link.fetch(job, product, target, product.bytes // 3, lambda _: None)
        assert hash_file(target) == product.blake3
        link.close()
    finally:
        assert control.stop(folder)


def test_synthetic_nodes_deliver_many_frames_with_the_same_times_again(
    short: tuple[Path, PackingList], tmp_path: Path
) -> None:
    folder = tmp_path / "farm"
    control.start(folder, FarmSettings(nodes=100, synthetic_seconds=30, balance="100000"))
    try:
        link = open_farm(folder)
        order = order_for(link, short)
        request = order.requests[0].model_copy(update={"frames": "1-3000"})
        update = {"requests": (request,), "tasks": whole([request]), "nodes": 100}
        bills = []
        for _ in range(2):
            job = link.submit(order.model_copy(update=update | {"key": new_key()}))
            bills.append(done(link, job).cost)
        assert bills[0] == bills[1] > 100
        times = [one.attempt.billed or 0 for one in everything(link, job)]
        assert len(times) == 3000 and sum(times) / 3000 == pytest.approx(30, rel=0.05)
        assert link.quote(order.model_copy(update=update)).cost == pytest.approx(bills[0], rel=Decimal("0.1"))
        change = link.changes(job, "").tasks[0]
        link.fetch(job, change.products[0], tmp_path / "frame", 0, lambda _: None)
        assert hash_file(tmp_path / "frame") == change.products[0].blake3
        some = [one.products[0] for one in link.changes(job, "").tasks[:300]]
        unknown = some[0].model_copy(update={"key": "nobody"})
        came = list(link.fetch_small(job, [unknown, *some[1:]]))
        assert [one for one, _ in came] == some[1:]
        assert all(blake3(data).hexdigest() == one.blake3 for one, data in came)
        # frames of a still picture are equal files: they travel once
        same = tmp_path / "same"
        same.write_bytes(b"still")
        with sqlite3.connect(folder / "farm.sqlite") as rows:
            rows.execute("UPDATE product SET path = ?, blake3 = ?, bytes = 5", (str(same), hash_file(same)))
        equal = [one.model_copy(update={"blake3": hash_file(same), "bytes": 5}) for one in some]
        assert [(one, bytes(data)) for one, data in link.fetch_small(job, equal)] == [(one, b"still") for one in equal]
        link.close()
    finally:
        assert control.stop(folder)


def test_a_crate_with_an_error_is_not_sent(context: SceneContext, farm: Path, tmp_path: Path) -> None:
    from tidy_crate.core.crate.collect import collect

    collect(context, tmp_path / "c.crate")
    with pytest.raises(Blocked, match="lacks files"):
        prepared(tmp_path / "c.crate", read_card(farm / "practice.farm.toml"), batch=4)
