"""One's own machines: a real Dask scheduler and real worker processes, over a shared folder."""

from __future__ import annotations

import contextlib
import json
import os
import pickle
import shutil
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from datetime import date
from decimal import Decimal
from pathlib import Path

import pytest
from test_neighbours import write

from farms import TODAY, prepared
from ports import free_port, wait_for
from tidy_crate import __version__
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.errors import Blocked, FarmBusy, FarmError, WrongUsage
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.cluster.dask import Certificates, Dask
from tidy_crate.core.farm.links.cluster.link import ClusterFarm
from tidy_crate.core.farm.links.cluster.scheduler_client import Conversation, Trouble, plain
from tidy_crate.core.farm.protocol import Action
from tidy_crate.core.farm.sign_in import Keys, NewAddress, open_link
from tidy_crate.core.job.actions import act
from tidy_crate.core.job.ledger import Ledger
from tidy_crate.core.job.prepare import Sending
from tidy_crate.core.job.rerender import rerender, to_rerender
from tidy_crate.core.job.retrieve import retrieve
from tidy_crate.core.job.send import send
from tidy_crate.core.job.track import JobView, log_of, track
from tidy_crate.core.review.folder import review_folder
from tidy_crate.core.review.run import review_job
from tidy_crate.core.review.spread import judge_on_workers
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.task import Task

trustme = pytest.importorskip("trustme")
Client = pytest.importorskip("distributed").Client
RENDER = (
    "{python}", "-m", "tidy_crate.practice.render", "{scene}", "--frames", "{frames}", "--into", "{output_folder}",
    "--width", "{width}", "--height", "{height}", "--samples", "{samples}",
)  # fmt: skip


@dataclass
class Cluster:
    """A scheduler and its workers."""

    port: int
    folder: Path
    processes: list[subprocess.Popen[bytes]] = field(default_factory=list)

    def start(self, *words: str) -> subprocess.Popen[bytes]:
        log = (self.folder / f"log-{len(self.processes)}").open("wb")
        process = subprocess.Popen(
            [sys.executable, "-m", "distributed.cli." + words[0], *words[1:]], stdout=log, stderr=log,
            cwd=self.folder, start_new_session=True,
        )  # fmt: skip
        self.processes.append(process)
        return process

    def worker(self, *more: str) -> subprocess.Popen[bytes]:
        line = ("--no-nanny", "--nthreads", "1", "--no-dashboard", "--local-directory", str(self.folder), *more)
        return self.start("dask_worker", f"tcp://127.0.0.1:{self.port}", *line)

    def stop(self) -> None:
        for process in reversed(self.processes):
            with contextlib.suppress(ProcessLookupError):
                os.killpg(process.pid, signal.SIGKILL)
            process.wait()


@pytest.fixture(scope="module")
def cluster(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Cluster]:
    port = free_port()
    found = Cluster(port, tmp_path_factory.mktemp("cluster"))
    try:
        words = ("--host", "127.0.0.1", "--port", str(port), "--no-dashboard", "--no-show")
        wait_for(port, found.start("dask_scheduler", *words))
        found.worker()
        found.worker()
        with Client(f"tcp://127.0.0.1:{port}", set_as_default=False) as client:
            client.wait_for_workers(2, timeout=60)
        yield found
    finally:
        found.stop()


def card_for(port: int, shared: Path, **program: object) -> FarmCard:
    return FarmCard.model_validate(
        {"name": "studio", "url": f"dask://127.0.0.1:{port}", "currency": "EUR", "rates_from": TODAY, "practice": True,
         "operator": {"kind": "own"}, "cluster": {"shared": str(shared)},
         "program": [{"name": "practice", "role": "renderer", "versions": ["1.*"], "command": RENDER} | program],
         "machine": [{"name": "m", "nodes": 2, "score": 100, "memory_gb": 8, "price_per_hour": 36}]}
    )  # fmt: skip


@pytest.fixture
def ledger(tmp_path: Path) -> Ledger:
    return Ledger(tmp_path / "ledger.sqlite")


@pytest.fixture
def shared(tmp_path: Path) -> Path:
    (tmp_path / "shared").mkdir()
    return tmp_path / "shared"


def asked(packed: tuple[SceneContext, Path], card: FarmCard, **more: object) -> Sending:
    wishes: dict[str, object] = {"frames": "1001-1004", "size": "48x27", "samples": 1, "batch": 1}
    return prepared(packed[1], card, **wishes | more)


def until(ask: Callable[[], JobView], wanted: Callable[[JobView], bool], seconds: float = 90) -> JobView:
    deadline = time.monotonic() + seconds
    while True:
        view = ask()
        if wanted(view):
            return view
        assert time.monotonic() < deadline, view.model_dump(exclude={"frames"})
        time.sleep(0.3)


def test_u8_a_job_runs_on_own_machines_one_is_killed_and_no_frame_is_lost(
    cluster: Cluster, packed: tuple[SceneContext, Path], ledger: Ledger, shared: Path, tmp_path: Path
) -> None:
    card = card_for(cluster.port, shared)
    farm = ClusterFarm(card)
    sending = asked(packed, card, frames="1001-1006")
    sent = send(sending, card, Path("studio.farm.toml"), farm.link(), ledger)
    assert sent.submissions[0].uploaded_bytes == sending.delivered.bytes
    # who ordered it is gone from here on; another process tracks it
    opened = lambda _: ClusterFarm(card).link()  # noqa: E731
    until(lambda: track(ledger, sent.job, opened), lambda view: view.done + view.counts.rendering > 0)
    victim = cluster.processes[1]
    os.killpg(victim.pid, signal.SIGKILL)
    cluster.worker()
    link = ClusterFarm(card).link()
    view = until(lambda: track(ledger, sent.job, lambda _: link), lambda view: view.state == "done")
    assert view.done == 6 and view.cost is not None and view.cost > 0
    came = retrieve(ledger, sent.job, tmp_path / "frames", lambda _: link)
    assert came.at_home == 12 and not came.damaged and came.ended
    assert "done in" in log_of(ledger, sent.job, Task("main", 1002), lambda _: link)
    again = send(sending, card, Path("x"), ClusterFarm(card).link(), ledger, again=True)
    assert again.submissions[0].uploaded_bytes == 0
    act(ledger, again.job, Action.CANCEL, lambda _: link)


def test_u5_test_frames_first_and_the_rest_after_resume(
    cluster: Cluster, packed: tuple[SceneContext, Path], ledger: Ledger, shared: Path
) -> None:
    card = card_for(cluster.port, shared)
    link = ClusterFarm(card).link()
    sent = send(asked(packed, card, start="tested", test_frames="1003"), card, Path("x"), link, ledger)
    opened = lambda _: link  # noqa: E731
    view = until(lambda: track(ledger, sent.job, opened), lambda view: view.state == "held")
    assert view.done == 1
    act(ledger, sent.job, Action.RESUME, opened)
    view = until(lambda: track(ledger, sent.job, opened), lambda view: view.state == "done")
    assert view.done == 4


def test_t3_a_program_that_fails_is_tried_again_and_told_with_what_it_said(
    cluster: Cluster, packed: tuple[SceneContext, Path], ledger: Ledger, shared: Path
) -> None:
    card = card_for(cluster.port, shared, command=("{python}", "-c", "print('no licence is free'); exit(3)"))
    link = ClusterFarm(card).link()
    sent = send(asked(packed, card, frames="1001", retries=1), card, Path("x"), link, ledger)
    view = until(lambda: track(ledger, sent.job, lambda _: link), lambda view: view.state == "failed")
    assert "no licence is free" in (view.troubles[0].error or "")
    assert view.frames[0].attempt == 2


@pytest.mark.parametrize(
    ("program", "words"),
    [({"version_command": ("{nothing}",)}, "it has no"),
     ({"version_command": (sys.executable, "-c", "print('practice 1.4')")}, "another version than 1.5")],
)  # fmt: skip
def test_u8_workers_that_cannot_do_it_are_told_before_anything_begins(
    program: dict[str, object], words: str, cluster: Cluster, packed: tuple[SceneContext, Path], ledger: Ledger,
    shared: Path,
) -> None:  # fmt: skip
    card = card_for(cluster.port, shared, **program)
    with pytest.raises(FarmError, match="no worker can render it") as caught:
        send(asked(packed, card, programs={"practice": "1.5"}), card, Path("x"), ClusterFarm(card).link(), ledger)
    assert words in str(caught.value)
    assert not list(shared.rglob("*.exr"))


def test_u8_a_crate_that_workers_cannot_see_and_a_scheduler_that_is_not_there(
    cluster: Cluster, packed: tuple[SceneContext, Path], ledger: Ledger, shared: Path, tmp_path: Path
) -> None:
    card = card_for(cluster.port, shared)
    elsewhere = card.model_copy(
        update={"cluster": card.cluster.model_copy(update={"shared_on_nodes": str(tmp_path / "not-mounted")})}
    )
    with pytest.raises(FarmError, match="the shared storage is not mounted there"):
        send(asked(packed, elsewhere), elsewhere, Path("x"), ClusterFarm(elsewhere).link(), ledger)
    gone = card_for(9, shared)
    farm = ClusterFarm(gone)
    farm.deliver(packed[1], asked(packed, gone).delivered, lambda _: None)
    with pytest.raises(FarmBusy, match="cannot be reached"):
        farm.submit(asked(packed, gone).order(next((shared / "crates").iterdir()).name))


def test_what_the_shared_storage_says_is_not_trusted(
    cluster: Cluster, packed: tuple[SceneContext, Path], ledger: Ledger, shared: Path, crate: Path
) -> None:
    card = card_for(cluster.port, shared)
    farm = ClusterFarm(card)
    sent = send(asked(packed, card, start="held"), card, Path("x"), farm.link(), ledger)
    opened = lambda _: farm.link()  # noqa: E731
    assert track(ledger, sent.job, opened).state == "held"
    (job,) = (shared / "jobs").iterdir()
    (job / "records/x-1.jsonl").write_bytes(b'{"half a li')
    assert track(ledger, sent.job, opened).done == 0
    (job / "records/x-1.jsonl").write_bytes(b'{"state": 1}\n')
    with pytest.raises(FarmError, match="is damaged"):
        track(ledger, sent.job, opened)
    for name in ("../x", ""):
        with pytest.raises(FarmError):
            farm.summary(name)
    (crate / "textures/sky.png").write_bytes(b"changed")
    shutil.rmtree(shared / "crates")
    with pytest.raises(Blocked, match="not as it was packed"):
        farm.deliver(crate, asked(packed, card).delivered, lambda _: None)


def test_machines_of_other_versions_are_named() -> None:
    own = {"host": {"python": "3.11.7.final.0"}, "packages": {"distributed": "2026.8.0"}}
    old = {"host": {"python": "3.10.2.final.0"}, "packages": {"distributed": "2026.8.0"}}

    class Told:
        def get_versions(self) -> dict[str, object]:
            return {"client": own, "scheduler": own, "workers": {"tcp://10.0.0.7:1": own, "tcp://10.0.0.8:1": old}}

    with pytest.raises(Trouble, match=r"worker tcp://10.0.0.8:1 has Python 3.10, distributed 2026.8.0") as caught:
        Conversation._need_versions(Told())
    assert "install the same versions everywhere" in caught.value.remedy


def test_x6_what_no_node_renders_any_more_is_known_to_every_later_command(
    packed: tuple[SceneContext, Path], ledger: Ledger, shared: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The scheduler and all workers are gone for good, and a new scheduler knows nothing of the job."""
    monkeypatch.setattr("tidy_crate.core.farm.links.cluster.link.MOST_IDLE", 0)
    monkeypatch.setattr("tidy_crate.core.farm.links.cluster.link.JUST_HANDED", 2.0)
    port = free_port()
    words = ("--host", "127.0.0.1", "--port", str(port), "--no-dashboard", "--no-show")
    card = card_for(port, shared, command=(sys.executable, "-c", "import time; time.sleep(600)"))
    first = Cluster(port, tmp_path / "first")
    first.folder.mkdir()
    second = Cluster(port, tmp_path / "second")
    second.folder.mkdir()
    opened = lambda _: ClusterFarm(card).link()  # noqa: E731
    try:
        wait_for(port, first.start("dask_scheduler", *words))
        first.worker()
        sent = send(asked(packed, card, frames="1001-1004"), card, Path("x"), ClusterFarm(card).link(), ledger)
        until(lambda: track(ledger, sent.job, opened), lambda view: view.counts.rendering > 0)
        first.stop()
        wait_for(port, second.start("dask_scheduler", *words))
        second.worker()
        # each look is by another link, as by another process
        view = until(lambda: track(ledger, sent.job, opened), lambda view: view.state == "failed")
        assert view.counts.failed == 4 and all("was lost" in (one.error or "") for one in view.troubles)
        retrieve(ledger, sent.job, tmp_path / "frames", opened)
        review_job(ledger, sent.job)
        wanted = to_rerender(ledger, sent.job)
        assert {task.frame for task in wanted.tasks} == {1001, 1002, 1003, 1004}
    finally:
        first.stop()
        second.stop()


def test_t6_a_paused_job_gives_its_machines_to_another_one_and_goes_on_where_it_was(
    cluster: Cluster, packed: tuple[SceneContext, Path], ledger: Ledger, shared: Path
) -> None:
    card = card_for(cluster.port, shared)
    link = ClusterFarm(card).link()
    opened = lambda _: link  # noqa: E731
    long = send(asked(packed, card, frames="1001-1018", batch=9), card, Path("x"), link, ledger).job
    until(lambda: track(ledger, long, opened), lambda view: view.done > 0)
    act(ledger, long, Action.PAUSE, opened)
    short = send(asked(packed, card, frames="1020-1021"), card, Path("x"), link, ledger, again=True).job
    until(lambda: track(ledger, short, opened), lambda view: view.state == "done")
    paused = track(ledger, long, opened)
    assert paused.state == "paused" and paused.done < 18
    act(ledger, long, Action.RESUME, opened)
    view = until(lambda: track(ledger, long, opened), lambda view: view.state == "done")
    assert view.done == 18
    # every frame was rendered to its end once
    done = [
        (line["task"]["frame"]) for path in (shared / "jobs").rglob("records/*.jsonl")
        for line in map(json.loads, path.read_bytes().splitlines()) if line["state"] == "done"
    ]  # fmt: skip
    assert sorted(done) == [*range(1001, 1019), 1020, 1021]


@pytest.mark.parametrize("wish", [{"gpus": 1}, {"devices": ("gpu",)}, {"reclaimable": True}, {"machine": "rack"}])
def test_u4_a_wish_that_nothing_here_fulfils_is_refused_by_name(
    wish: dict[str, object], packed: tuple[SceneContext, Path], shared: Path
) -> None:
    card = card_for(9, shared)
    rack = card.machine[0].model_copy(update={"name": "rack"})
    card = card.model_copy(update={"machine": (card.machine[0].model_copy(update={"hosts": ("wren",)}), rack)})
    order = asked(packed, card).order("quay-1").model_copy(update=wish)
    with pytest.raises(FarmError, match=r"cannot be told --|which machines are of the class rack"):
        ClusterFarm(card).submit(order)
    assert not (shared / "jobs").exists()


def test_t2_a_frame_costs_by_the_class_of_the_machine_that_rendered_it(shared: Path) -> None:
    card = card_for(1, shared)
    classes = (
        card.machine[0].model_copy(update={"name": "desk", "price_per_hour": Decimal(36)}),
        card.machine[0].model_copy(update={"name": "rack", "price_per_hour": Decimal(72), "hosts": ("rack-*", "r?")}),
    )
    farm = ClusterFarm(card.model_copy(update={"machine": classes}))
    assert [farm._orders.price_of(node, classes[0]) for node in ("rack-07-4711", "r1-5", "wren-12", "")] == [
        72,
        72,
        36,
        36,
    ]


SPOILING = """
import runpy, shutil, sys, tempfile
from pathlib import Path
from tidy_crate.practice.farm.node import spoil
words = sys.argv[1:]
at = words.index("--into") + 1
into, words[at] = Path(words[at]), tempfile.mkdtemp()
sys.argv = ["render", *words]
try:
    runpy.run_module("tidy_crate.practice.render", run_name="__main__")
except SystemExit as end:
    if end.code:
        raise
for frame, kind in (("1003", "black"), ("1005", "invalid")):
    mark = Path(@MARKS@, frame)
    for path in Path(words[at]).rglob(f"*beauty*{frame}.exr"):
        if not mark.exists():
            mark.touch()
            spoil(path, kind)
# a frame is taken as soon as it is there
shutil.copytree(words[at], into, dirs_exist_ok=True)
"""


def test_f2_damaged_frames_of_own_machines_are_found_and_rendered_again(
    cluster: Cluster, packed: tuple[SceneContext, Path], ledger: Ledger, shared: Path, tmp_path: Path
) -> None:
    (tmp_path / "marks").mkdir()
    script = tmp_path / "spoiling.py"
    script.write_text(SPOILING.replace("@MARKS@", repr(str(tmp_path / "marks"))))
    card = card_for(cluster.port, shared, command=("{python}", str(script), *RENDER[3:]))
    link = ClusterFarm(card).link()
    sending = asked(packed, card, frames="1001-1008", batch=8, size="64x36")
    job = send(sending, card, Path("studio.farm.toml"), link, ledger).job
    opened = lambda _: link  # noqa: E731
    spoilt: list[set[int]] = []
    for _ in range(2):
        until(lambda: track(ledger, job, opened), lambda view: view.state == "done")
        retrieve(ledger, job, tmp_path / "frames", opened)
        review = review_job(ledger, job)
        spoilt.append({one.frame for one in review.frames if one.verdict is not Verdict.GOOD})
        wanted = to_rerender(ledger, job, suspect=True)
        if wanted.tasks:
            rerender(ledger, wanted, opened)
    assert spoilt == [{1003, 1005}, set()]


def test_f3_frames_are_judged_on_workers_as_they_are_here(cluster: Cluster, tmp_path: Path) -> None:
    frames = write(tmp_path / "frames", {1000 + number: 1.0 + (number == 9) for number in range(20)})
    (frames / "x.1003.exr").write_bytes(b"no picture")
    os.killpg(cluster.processes[1].pid, signal.SIGKILL)
    url = f"dask://127.0.0.1:{cluster.port}"
    there = review_folder(tmp_path / "frames", None, judge=judge_on_workers(url, __version__))
    assert there == review_folder(tmp_path / "frames", None) and not there.clean
    with pytest.raises(FarmError, match="has tidy-crate"):
        review_folder(tmp_path / "frames", None, judge=judge_on_workers(url, "0.0"))
    with pytest.raises(WrongUsage, match="not the address"):
        judge_on_workers("http://127.0.0.1:1", __version__)


# whoever runs this worker answers every question with an object that runs code where it is unpacked
HOSTILE = """
class Evil:
    def __reduce__(self):
        return (open, (@MARK@, "w"))
async def run(*words, **more):
    from distributed.protocol import to_serialize
    return {"status": "OK", "result": to_serialize(Evil())}
def dask_setup(worker):
    worker.handlers["run"] = run
"""


@pytest.fixture
def hostile(tmp_path: Path) -> Iterator[tuple[Cluster, Path]]:
    """A scheduler with such a worker, and the file that its code would make here."""
    port, mark = free_port(), tmp_path / "ran-here"
    found = Cluster(port, tmp_path)
    (tmp_path / "evil.py").write_text(HOSTILE.replace("@MARK@", repr(str(mark))))
    try:
        wait_for(
            port,
            found.start("dask_scheduler", "--host", "127.0.0.1", "--port", str(port), "--no-dashboard", "--no-show"),
        )
        found.worker("--preload", str(tmp_path / "evil.py"))
        with Client(f"tcp://127.0.0.1:{port}", set_as_default=False) as client:
            client.wait_for_workers(1, timeout=60)
        yield found, mark
    finally:
        found.stop()


def test_a_hostile_worker_runs_nothing_here(hostile: tuple[Cluster, Path], shared: Path) -> None:
    cluster, mark = hostile
    steps = list(ClusterFarm(card_for(cluster.port, shared)).trial())
    assert [one.works for one in steps] == [True, False]
    assert "something else than plain text" in steps[1].said and not mark.exists()
    # the attack works where plain data are not asked for
    with Client(f"tcp://127.0.0.1:{cluster.port}", set_as_default=False) as client, contextlib.suppress(Exception):
        client.run(os.getpid)
    assert mark.exists()


class Runs:
    def __reduce__(self) -> tuple[object, tuple[object, ...]]:
        return os.system, ("exit 3",)


@pytest.mark.parametrize("protocol", range(3, pickle.HIGHEST_PROTOCOL + 1))
def test_plain_data_come_through_and_nothing_else_is_made(protocol: int) -> None:
    given = {"a": [1, 2.5, None, True, b"x", "é"], "b": [{1, 2}, frozenset([3])], "c": (1, (2,))}
    plain_ones = given if protocol > 3 else {"a": given["a"], "c": given["c"]}
    assert plain(pickle.dumps(plain_ones, protocol)) == plain_ones
    error = plain(pickle.dumps(ValueError("why"), protocol))
    assert isinstance(error, ValueError) and str(error) == "why"
    for one in (Runs(), Path("x"), os.getpid, [Runs()], SystemExit(3), date(2026, 1, 1)):
        found = plain(pickle.dumps(one, protocol))
        found = found[0] if isinstance(found, list) else found
        assert found is None or any(word in f"{found} {type(found)}" for word in ("Inert", "Foreign")), found


@pytest.mark.parametrize(
    "says", [b"", b"SSH-2.0-OpenSSH_9.2\r\n", b"HTTP/1.1 400 Bad Request\r\n\r\n", b"\xff" * 64, None]
)
def test_another_listener_is_told_in_one_sentence_within_the_limit(says: bytes | None) -> None:
    """None: it takes the connection and says nothing, for ever."""
    with socket.create_server(("127.0.0.1", 0)) as server:
        stop = threading.Event()

        def serve() -> None:
            held = []
            while not stop.is_set():
                with contextlib.suppress(OSError):
                    taken, _ = server.accept()
                    held.append(taken)
                    if says is not None:
                        taken.sendall(says)
                        if not says:
                            taken.close()

        threading.Thread(target=serve, daemon=True).start()
        began = time.monotonic()
        engine = Dask(f"dask://127.0.0.1:{server.getsockname()[1]}", limit=7)
        with pytest.raises(FarmError) as told:
            engine.meet()
        stop.set()
    assert time.monotonic() - began < 14
    assert "\n" not in str(told.value) and len(told.value.what) < 300 and told.value.remedy


def test_an_encrypted_scheduler_is_met_with_the_users_certificates(tmp_path: Path) -> None:
    ours, stranger = authority(tmp_path / "ours"), authority(tmp_path / "stranger")
    port = free_port()
    cluster = Cluster(port, tmp_path)
    tls = ("--tls-ca-file", str(ours.ca_file), "--tls-cert", str(ours.certificate), "--tls-key", str(ours.key))
    try:
        words = ("--host", "tls://127.0.0.1", "--port", str(port), "--no-dashboard", "--no-show")
        wait_for(port, cluster.start("dask_scheduler", *words, *tls))
        line = ("--no-nanny", "--nthreads", "1", "--no-dashboard", "--local-directory", str(tmp_path))
        cluster.start("dask_worker", f"tls://127.0.0.1:{port}", *line, *tls)
        engine = Dask(f"dasks://127.0.0.1:{port}", ours)
        deadline = time.monotonic() + 60
        while True:
            try:
                assert "1 workers of the same versions" in engine.meet()
                break
            except FarmError as error:
                assert "no workers" in error.what and time.monotonic() < deadline, error
        # without certificates, with a stranger's, and unencrypted: refused in one sentence
        for other, why in (
            (Dask(f"dasks://127.0.0.1:{port}"), "certificates, and none are known"),
            (Dask(f"dasks://127.0.0.1:{port}", stranger, 8), "reached|answer"),
            (Dask(f"dask://127.0.0.1:{port}", None, 8), "reached|answer"),
            (Dask(f"dasks://127.0.0.1:{port}", replace(ours, key=tmp_path / "none")), "no such file"),
        ):
            with pytest.raises(FarmError, match=why):
                other.meet()
    finally:
        cluster.stop()


def authority(folder: Path) -> Certificates:
    """A new authority and one certificate of it."""
    folder.mkdir()
    made = trustme.CA()
    own = made.issue_cert("127.0.0.1")
    made.cert_pem.write_to_path(str(folder / "ca.pem"))
    own.private_key_pem.write_to_path(str(folder / "key.pem"))
    own.cert_chain_pems[0].write_to_path(str(folder / "cert.pem"))
    return Certificates(folder / "ca.pem", folder / "cert.pem", folder / "key.pem")


@pytest.mark.parametrize("name", ["studio", "other"])
def test_a_strangers_scheduler_is_agreed_to_like_a_command(tmp_path: Path, shared: Path, name: str) -> None:
    card = card_for(8786, shared).model_copy(update={"url": "dasks://render.stranger.example", "name": name})
    path = tmp_path / f"{name}.farm.toml"
    keys = Keys({}, tmp_path / "home" / "book.json")
    with pytest.raises(NewAddress, match="your crates and render commands would go to dasks://render"):
        open_link(card, path, keys)
    if name == "studio":
        keys.bind(card.model_copy(update={"url": "dasks://render.studio.example"}), path)
        with pytest.raises(FarmError, match="the farm studio belongs to dasks://render"):
            open_link(card, path, keys)
        return
    keys.move(card, path)
    open_link(card, path, keys)
