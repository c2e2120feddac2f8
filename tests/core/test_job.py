"""Ledger, sending and retrieving against a farm that lies, breaks off and forgets."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date
from decimal import Decimal
from pathlib import Path

import pytest
from blake3 import blake3

from tidy_crate.core.crate.packing import PackingList, read_packing_list
from tidy_crate.core.errors import Blocked, FarmError, WrongUsage
from tidy_crate.core.farm.card import FarmCard, Operator, OutputRules
from tidy_crate.core.farm.links.interface import Received
from tidy_crate.core.farm.protocol import (
    Account,
    Blob,
    FarmJob,
    JobOrder,
    JobState,
    Product,
    Reading,
    Registered,
    RerenderOrder,
    Task,
    TaskState,
)
from tidy_crate.core.job.identity import TaskId
from tidy_crate.core.job.ledger import Ledger, job_named, new_job
from tidy_crate.core.job.rerender import rerender, to_rerender
from tidy_crate.core.job.retrieve import retrieve
from tidy_crate.core.job.send import Sending, prepare, send, upload
from tidy_crate.core.job.track import list_jobs, track
from tidy_crate.core.review.run import review_job
from tidy_crate.core.scene.context import SceneContext

TODAY = date(2026, 11, 20)
CARD = FarmCard.model_validate(
    {"name": "f", "url": "https://f.invalid", "currency": "EUR", "rates_from": "2026-11-01", "practice": True,
     "operator": {"kind": "own"},
     "machine": [{"name": "m", "nodes": 2, "score": 100, "memory_gb": 8, "price_per_hour": 1}]}
)  # fmt: skip


class FakeFarm:
    """A farm in memory. breaks: how often a download breaks off; lies: whether its hashes are wrong."""

    def __init__(self, content: PackingList) -> None:
        self.content = content
        self.blobs: dict[str, bytes] = {}
        self.balance = Decimal(100)
        self.order: JobOrder | None = None
        self.submissions = 0
        self.attempts: dict[int, int] = {}
        self.breaks = 0
        self.damages = 0
        self.reading: dict[str, object] = {}
        self.extra: tuple[Task, ...] = ()
        self.asked: list[int] = []
        self.forgets = False

    def account(self) -> Account:
        return Account(user="w", balance=self.balance, currency="EUR")

    def missing(self, blobs: Iterable[Blob]) -> set[str]:
        return {blob.blake3 for blob in blobs} - set(self.blobs)

    def upload(self, blob: Blob, path: Path, sent: Received) -> None:
        self.blobs[blob.blake3] = path.read_bytes()

    def register(self, content: PackingList) -> Registered:
        own = content.essentials
        reading = Reading(
            start=own.frames.start, end=own.frames.end, fps=own.frames.fps, resolution=(320, 180),
            camera="/Quay/Camera",
            outputs={output.name: output.passes for output in own.outputs}, missing=(),
        )  # fmt: skip
        return Registered(crate="c", reading=reading.model_copy(update=self.reading))

    def submit(self, order: JobOrder) -> str:
        self.submissions += self.order is None
        self.order = order
        if self.forgets:
            self.forgets = False
            raise FarmError("the line broke", "f")
        return "1"

    def product(self, frame: int, output: str) -> bytes:
        return f"{frame} {output} {self.attempts.get(frame, 1)}".encode() * 50

    def job(self, job: str) -> FarmJob:
        assert self.order is not None
        tasks = [
            Task(
                id=TaskId(request=request.name, frame=frame), state=TaskState.DONE, attempt=self.attempts.get(frame, 1),
                node="n", seconds=1.0, cost=Decimal("0.1"),
                products=tuple(
                    Product(output=o, key=f"{frame}:{o}", bytes=len(data), blake3=blake3(data).hexdigest())
                    for o in request.outputs
                    for data in [self.product(frame, o)]
                ),
            )
            for request in self.order.requests
            for frame in request.numbers()
        ]  # fmt: skip
        return FarmJob(
            job=job,
            state=JobState.DONE,
            clock=1.0,
            cost=Decimal(1),
            currency="EUR",
            tasks=(*tasks, *self.extra),
            nodes=(),
        )

    def download(self, job: str, key: str, target: Path, offset: int, received: Received) -> None:
        frame, output = key.split(":")
        data = self.product(int(frame), output)
        self.asked.append(offset)
        if self.damages:
            self.damages -= 1
            data = data[:-1] + b"?"
        with target.open("ab") as stream:
            if self.breaks:
                self.breaks -= 1
                stream.write(data[offset : offset + 100])
                raise FarmError("broke off", "f")
            stream.write(data[offset:])

    def rerender(self, job: str, order: RerenderOrder) -> None:
        for task in order.tasks:
            self.attempts[task.frame] = self.attempts.get(task.frame, 1) + 1

    def cancel(self, job: str) -> None: ...

    def close(self) -> None: ...


@pytest.fixture
def ledger(tmp_path: Path) -> Ledger:
    return Ledger(tmp_path / "ledger.sqlite")


@pytest.fixture
def sending(packed: tuple[SceneContext, Path]) -> Sending:
    """The crate on three frames."""
    found = prepare(packed[1], CARD, None, None, 2, TODAY)
    request = found.packing.requests[0].model_copy(update={"frames": "1001-1003"})
    return found.model_copy(update={"packing": found.packing.model_copy(update={"requests": (request,)})})


@pytest.fixture
def farm(sending: Sending) -> FakeFarm:
    return FakeFarm(sending.packing)


def start(sending: Sending, farm: FakeFarm, ledger: Ledger) -> str:
    return send(sending, CARD, Path("f.farm.toml"), farm, ledger).job


def test_jobs_are_numbered_and_products_are_known_before_they_come(
    sending: Sending, farm: FakeFarm, ledger: Ledger
) -> None:
    assert [start(sending, farm, ledger) for _ in range(2)] == ["lantern_quay-1", "lantern_quay-2"]
    lines = list_jobs(ledger)
    assert [(line.job, line.products, line.at_home, line.state) for line in lines] == [
        ("lantern_quay-2", 6, 0, "waiting"), ("lantern_quay-1", 6, 0, "waiting"),
    ]  # fmt: skip
    with ledger.session() as session, pytest.raises(WrongUsage):
        job_named(session, "nobody")


def test_a_job_number_is_not_given_twice_though_an_earlier_job_is_gone(
    packed: tuple[SceneContext, Path], ledger: Ledger
) -> None:
    content = read_packing_list(packed[1])
    content = content.model_copy(update={"requests": ()})
    with ledger.session() as session:
        first = new_job(session, packed[1], content)
        second = new_job(session, packed[1], content)
        session.delete(first)
        session.flush()
        assert {second.id, new_job(session, packed[1], content).id} == {"lantern_quay-2", "lantern_quay-3"}


def test_u10_nothing_is_submitted_when_the_farm_understood_something_else(
    sending: Sending, farm: FakeFarm, ledger: Ledger
) -> None:
    farm.reading = {"end": 1040, "missing": ("textures/sky.png",)}
    with pytest.raises(Blocked, match=r"frames 1001-1040, not 1001-1048; files it cannot find: textures/sky\.png"):
        start(sending, farm, ledger)
    assert farm.submissions == 0 and list_jobs(ledger) == ()


def test_c14_nothing_is_uploaded_to_a_farm_that_the_project_forbids(
    packed: tuple[SceneContext, Path], farm: FakeFarm, ledger: Ledger
) -> None:
    elsewhere = CARD.model_copy(update={"operator": Operator(kind="provider", places=("IS",))})
    sending = prepare(packed[1], elsewhere, None, None, 2, TODAY)
    with pytest.raises(Blocked, match="machines stand in IS, the project allows DE, NL"):
        start(sending, farm, ledger)
    assert farm.submissions == 0 and farm.order is None and list_jobs(ledger) == ()


def test_c1_c12_the_order_has_the_farms_own_paths_and_what_is_known_to_be_wrong_is_listed(
    packed: tuple[SceneContext, Path], farm: FakeFarm, ledger: Ledger, tmp_path: Path
) -> None:
    names = CARD.model_copy(update={"outputs": OutputRules(path="name")})
    sent = send(prepare(packed[1], names, None, None, 2, TODAY), names, tmp_path / "f.farm.toml", farm, ledger)
    assert farm.order is not None and farm.order.outputs == {
        "Beauty": "lantern_quay_beauty.####.exr",
        "Matte": "lantern_quay_matte.####.exr",
    }
    assert [finding.code for finding in sent.warnings] == ["output-colour-space-unset"] and sent.waived == ()


def test_u2_a_file_that_changed_after_packing_is_not_uploaded(crate: Path) -> None:
    content = read_packing_list(crate)
    farm = FakeFarm(content)
    (crate / "textures/sky.png").write_bytes(b"changed")
    with pytest.raises(Blocked, match="not as it was packed"):
        upload(crate, content, farm)


def test_x3_a_submission_whose_answer_was_lost_is_asked_for_again_and_made_once(
    sending: Sending, farm: FakeFarm, ledger: Ledger
) -> None:
    farm.forgets = True
    with pytest.raises(FarmError):
        start(sending, farm, ledger)
    (line,) = list_jobs(ledger)
    assert line.state == "sending"
    assert track(ledger, line.job, lambda _: farm).state == "done"
    assert farm.submissions == 1


def test_f1_a_download_that_breaks_off_goes_on_where_it_was(
    sending: Sending, farm: FakeFarm, ledger: Ledger, tmp_path: Path
) -> None:
    job = start(sending, farm, ledger)
    farm.breaks = 1
    result = retrieve(ledger, job, tmp_path / "f", lambda _: farm)
    assert len(result.retrieved) == 6 and 100 in farm.asked
    for one in result.retrieved:
        assert one.path.read_bytes() == farm.product(one.frame, one.output)
    assert not list((tmp_path / "f").rglob("*.part"))


def test_what_arrives_damaged_each_time_is_thrown_away_and_named(
    sending: Sending, farm: FakeFarm, ledger: Ledger, tmp_path: Path
) -> None:
    job = start(sending, farm, ledger)
    farm.damages = 1000
    result = retrieve(ledger, job, tmp_path / "f", lambda _: farm)
    assert (len(result.retrieved), len(result.damaged)) == (0, 6)
    assert not [path for path in (tmp_path / "f").rglob("*") if path.is_file()]


@pytest.mark.parametrize("task", [TaskId(request="other", frame=1001), TaskId(request="main", frame=5000)])
def test_x4_a_farm_that_reports_what_was_never_sent_is_refused(
    task: TaskId, sending: Sending, farm: FakeFarm, ledger: Ledger, tmp_path: Path
) -> None:
    job = start(sending, farm, ledger)
    farm.extra = (Task(id=task, state=TaskState.DONE, attempt=1, cost=Decimal(0)),)
    with pytest.raises(FarmError, match="that was not sent"):
        retrieve(ledger, job, tmp_path / "f", lambda _: farm)


def test_f5_only_what_the_review_rejected_is_rendered_again(
    sending: Sending, farm: FakeFarm, ledger: Ledger, tmp_path: Path
) -> None:
    job = start(sending, farm, ledger)
    with pytest.raises(WrongUsage, match="not reviewed"):
        to_rerender(ledger, job)
    retrieve(ledger, job, tmp_path / "f", lambda _: farm)
    review = review_job(ledger, job)
    assert review.count(review.frames[0].verdict) == 6 and not review.clean
    wanted = to_rerender(ledger, job)
    assert [task.frame for task in wanted.tasks] == [1001, 1002, 1003]
    rerender(ledger, wanted.model_copy(update={"tasks": wanted.tasks[:1]}), lambda _: farm)
    again = retrieve(ledger, job, tmp_path / "f", lambda _: farm)
    assert {(one.frame, one.attempt) for one in again.retrieved} == {(1001, 2)}
    # a verdict on the earlier attempt says nothing about this one
    states = {(row.frame, row.state) for row in track(ledger, job, lambda _: farm).frames}
    assert states == {(1001, "retrieved"), (1002, "bad"), (1003, "bad")}


def test_a_balance_that_does_not_cover_the_job_stops_it(sending: Sending, farm: FakeFarm, ledger: Ledger) -> None:
    from test_estimate import measured

    from tidy_crate.core.estimate.model import Wishes
    from tidy_crate.core.estimate.quote import estimate

    quote = estimate(sending.packing, measured({1001: 3600.0}), [CARD], Wishes()).quotes[0]
    farm.balance = Decimal(1)
    with pytest.raises(FarmError, match="balance"):
        send(sending, CARD, Path("f"), farm, ledger, quote)
    assert farm.blobs == {}
