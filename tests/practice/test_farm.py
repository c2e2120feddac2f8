"""The practice farm over a real socket: signing in, uploading, rendering, faults, and being killed."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from datetime import date
from decimal import Decimal
from pathlib import Path

import httpx
import psutil
import pytest

from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.crate.packing import PackingList, read_packing_list
from tidy_crate.core.errors import Blocked, FarmError
from tidy_crate.core.farm.card import read_card
from tidy_crate.core.farm.links.http import HttpLink
from tidy_crate.core.farm.links.interface import FarmLink
from tidy_crate.core.farm.protocol import Blob, FarmJob, JobOrder, JobState, Reading, RerenderOrder, TaskState
from tidy_crate.core.farm.sign_in import open_link
from tidy_crate.core.files import hash_file, read_json
from tidy_crate.core.job.ledger import Ledger, job_named, new_key
from tidy_crate.core.job.retrieve import retrieve
from tidy_crate.core.job.send import compare, prepare, send, upload
from tidy_crate.core.job.track import _forecast, track
from tidy_crate.core.review.run import review_job
from tidy_crate.core.work.task import TaskId
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


@pytest.fixture
def link(farm: Path) -> Iterator[FarmLink]:
    card = read_card(farm / "practice.farm.toml")
    opened = open_link(card, farm / "practice.farm.toml", {})
    yield opened
    opened.close()


@pytest.fixture(scope="module")
def short(packed: tuple[SceneContext, Path]) -> tuple[Path, PackingList]:
    """The crate, to be rendered on six frames and small."""
    content = read_packing_list(packed[1])
    request = content.requests[0].model_copy(update={"frames": "1001-1006", "width": 64, "height": 36, "samples": 1})
    return packed[1], content.model_copy(update={"requests": (request,)})


def order_for(link: FarmLink, short: tuple[Path, PackingList], key: str | None = None) -> JobOrder:
    upload(*short, link)
    crate = link.register(short[1]).crate
    return JobOrder(key=key or new_key(), crate=crate, requests=short[1].requests, batch=2, nodes=2, machine="standard")


def wait_for(ask: Callable[[], FarmJob], until: Callable[[FarmJob], bool], seconds: float = 60) -> FarmJob:
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        found = ask()
        if until(found):
            return found
        time.sleep(0.1)
    raise AssertionError("the farm did not get there in time")


def test_u1_a_wrong_token_is_refused_and_never_shown(link: FarmLink, farm: Path) -> None:
    url = read_card(farm / "practice.farm.toml").url
    wrong = HttpLink("practice", url, "not-the-token")
    with pytest.raises(FarmError) as caught:
        wrong.account()
    assert "not-the-token" not in str(caught.value)
    assert link.account().balance > 0
    token = (farm / "token").read_text()
    assert token not in (farm / "practice.farm.toml").read_text()
    assert httpx.get(f"{url}/v1/jobs/000001", trust_env=False).status_code == 401


def test_a_farm_that_is_not_there_is_one_clear_error() -> None:
    with pytest.raises(FarmError, match="nothing answers there"):
        HttpLink("gone", "http://127.0.0.1:9", "t", patience=0.001).account()


def test_passing_trouble_is_tried_again_and_lasting_trouble_is_told() -> None:
    answers = [
        httpx.Response(503),
        httpx.ConnectError("reset"),
        httpx.Response(200, json={"user": "a", "balance": "1", "currency": "EUR"}),
    ]

    def transport(request: httpx.Request) -> httpx.Response:
        answer = answers.pop(0)
        if isinstance(answer, Exception):
            raise answer
        return answer

    assert HttpLink("f", "http://f", "t", httpx.MockTransport(transport), patience=0).account().user == "a"
    with pytest.raises(FarmError, match="makes no sense"):
        HttpLink("f", "http://f", "t", httpx.MockTransport(lambda _: httpx.Response(200, text="<html>"))).account()


def test_u2_only_what_the_farm_lacks_is_sent_and_verified(
    link: FarmLink, short: tuple[Path, PackingList], tmp_path: Path
) -> None:
    upload(*short, link)
    assert upload(*short, link)[0] == 0
    path = tmp_path / "x"
    path.write_bytes(b"other content")
    with pytest.raises(FarmError, match="not what was announced"):
        link.upload(Blob(blake3="0" * 64, bytes=13), path, lambda _: None)
    assert link.missing([Blob(blake3="0" * 64, bytes=13)]) == {"0" * 64}


def test_u10_the_farm_reads_the_crate_as_the_survey_did(link: FarmLink, short: tuple[Path, PackingList]) -> None:
    upload(*short, link)
    reading = link.register(short[1]).reading
    assert compare(short[1], reading) == []
    assert isinstance(reading, Reading)
    wrong = reading.model_copy(update={"start": 1, "fps": 24.0, "missing": ("textures/gone.png",), "camera": "/Other"})
    assert len(compare(short[1], wrong)) == 4


def test_x4_the_farm_refuses_a_hostile_crate(farm: Path, link: FarmLink, short: tuple[Path, PackingList]) -> None:
    upload(*short, link)
    content = short[1]
    for path in ("../../escaped.txt", "/tmp/escaped.txt"):
        hostile = content.files[0].model_copy(update={"path": path})
        with pytest.raises(FarmError, match="does not stay inside"):
            link.register(content.model_copy(update={"files": (hostile, *content.files[1:])}))
    assert not list(farm.rglob("escaped.txt"))


def test_one_submission_sent_twice_is_one_job(link: FarmLink, short: tuple[Path, PackingList]) -> None:
    order = order_for(link, short)
    assert link.submit(order) == link.submit(order)
    link.cancel(link.submit(order))
    assert link.job(link.submit(order)).state is JobState.CANCELLED


def test_c1_paths_that_the_card_does_not_allow_are_refused(link: FarmLink, short: tuple[Path, PackingList]) -> None:
    order = order_for(link, short)
    for path in ("/mnt/a.####.exr", "../a.####.exr", "Q:/a.####.exr"):
        with pytest.raises(FarmError, match="is not relative"):
            link.submit(order.model_copy(update={"outputs": {"Beauty": path}}))
    assert takes_path("name", "a.exr") and not takes_path("name", "b/a.exr")
    link.cancel(link.submit(order.model_copy(update={"outputs": {"Beauty": "b/a.####.exr"}})))


def test_a_job_comes_home_verified_and_its_faults_are_found(
    farm: Path, link: FarmLink, packed: tuple[SceneContext, Path], tmp_path: Path
) -> None:
    card_path = farm / "practice.farm.toml"
    card, ledger = read_card(card_path), Ledger(tmp_path / "ledger.sqlite")
    sending = prepare(packed[1], card, None, None, 2, TODAY)
    request = sending.packing.requests[0].model_copy(update={"frames": "1001-1006", "width": 64, "height": 36})
    sending = sending.model_copy(update={"packing": sending.packing.model_copy(update={"requests": (request,)})})
    job = send(sending, card, card_path, link, ledger).job
    with ledger.session() as session:
        farm_job = job_named(session, job).submissions[0].farm_job or ""
    wait_for(lambda: link.job(farm_job), lambda found: found.state is JobState.DONE)
    result = retrieve(ledger, job, tmp_path / "frames", lambda _: link)
    # the one damaged in transit was fetched again
    assert (len(result.retrieved), result.missing, result.damaged) == (12, (), ())
    assert retrieve(ledger, job, tmp_path / "frames", lambda _: link).retrieved == ()
    bad = {
        (one.frame, one.output): one.reasons[0] for one in review_job(ledger, job).frames if one.verdict.value != "good"
    }
    assert set(bad) == {(1002, "Beauty"), (1003, "Matte")}
    assert "invalid numbers" in bad[(1002, "Beauty")]
    again = (TaskId(request="main", frame=1002), TaskId(request="main", frame=1003))
    link.rerender(farm_job, RerenderOrder(key=new_key(), tasks=again))
    wait_for(lambda: link.job(farm_job), lambda found: found.state is JobState.DONE)
    assert len(retrieve(ledger, job, tmp_path / "frames", lambda _: link).retrieved) == 4
    assert review_job(ledger, job).clean
    # nothing is lost: what was replaced is set aside
    assert len(list((tmp_path / "frames" / "rejected").rglob("*.attempt1.exr"))) == 4
    view = track(ledger, job, lambda _: link)
    assert {row.attempt for row in view.frames if row.frame in (1002, 1003)} == {2}
    assert float(view.cost) == pytest.approx(sum(float(node.cost) for node in view.nodes), abs=1e-3)
    assert view.cost > 0


def test_event_clock_bills_start_up_and_processor_time_and_not_waiting(
    link: FarmLink, short: tuple[Path, PackingList]
) -> None:
    job = link.submit(order_for(link, short))
    found = wait_for(lambda: link.job(job), lambda one: one.state is JobState.DONE)
    for node in found.nodes:
        worked = sum(task.seconds or 0 for task in found.tasks if task.node == node.name)
        assert node.free_at == pytest.approx(40 + worked, abs=1e-6)
    assert found.clock == max(node.free_at for node in found.nodes)


def test_t2_the_forecast_in_the_middle_is_near_the_bill_at_the_end(
    link: FarmLink, short: tuple[Path, PackingList]
) -> None:
    job = link.submit(order_for(link, short))
    done = wait_for(lambda: link.job(job), lambda one: one.state is JobState.DONE)
    open_again = [task.model_copy(update={"state": TaskState.WAITING}) for task in done.tasks[3:]]
    early = [node.model_copy(update={"free_at": 40.0 + (node.free_at - 40) / 2}) for node in done.nodes]
    share = sum(node.free_at for node in early) / sum(node.free_at for node in done.nodes)
    half = done.model_copy(update={"tasks": (*done.tasks[:3], *open_again), "nodes": tuple(early)})
    forecast = _forecast([half], done.cost * Decimal(share), "EUR")
    assert forecast.cost is not None and float(forecast.cost) == pytest.approx(float(done.cost), rel=0.1)
    assert forecast.seconds_left is not None and forecast.seconds_left > 0


def test_x3_a_farm_that_is_killed_goes_on_where_it_was(short: tuple[Path, PackingList], tmp_path: Path) -> None:
    folder = tmp_path / "farm"
    control.start(folder, FarmSettings(nodes=1))
    card_path = folder / "practice.farm.toml"
    link = open_link(read_card(card_path), card_path, {})
    job = link.submit(order_for(link, short))
    wait_for(lambda: link.job(job), lambda found: any(t.state is TaskState.DONE for t in found.tasks))
    pid = read_json(folder / control.RUNNING, "state")["pid"]
    for process in (*psutil.Process(pid).children(recursive=True), psutil.Process(pid)):
        process.kill()
    psutil.Process(pid).wait()
    link.close()
    assert control.running(folder) is None
    control.start(folder, FarmSettings(nodes=1))
    try:
        link = open_link(read_card(card_path), card_path, {})
        found = wait_for(lambda: link.job(job), lambda one: one.state is JobState.DONE)
        assert all(task.state is TaskState.DONE and len(task.products) == 2 for task in found.tasks)
        target = tmp_path / "frame.exr"
        product = found.tasks[0].products[0]
        # resumed in the middle, as after a break
        link.download(job, product.key, target, 0, lambda _: None)
        target.write_bytes(target.read_bytes()[: product.bytes // 3])
        link.download(job, product.key, target, product.bytes // 3, lambda _: None)
        assert hash_file(target) == product.blake3
        link.close()
    finally:
        assert control.stop(folder)


def test_a_crate_with_an_error_is_not_sent(context: SceneContext, farm: Path, tmp_path: Path) -> None:
    from tidy_crate.core.crate.collect import collect

    collect(context, tmp_path / "c.crate")
    with pytest.raises(Blocked, match="lacks files"):
        prepare(tmp_path / "c.crate", read_card(farm / "practice.farm.toml"), None, None, 4, TODAY)
