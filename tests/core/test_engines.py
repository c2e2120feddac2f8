"""N7: engines that start work on one's own machines: the same job, the same faults, on every one of them."""

from __future__ import annotations

import contextlib
import importlib
import json
import os
import shutil
import signal
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import Any

import psutil
import pytest
from test_cluster import until

from farms import TODAY, prepared
from servers import SSHD, ssh_server
from slurm_here import SlurmHere, missing, slurm
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.errors import FarmBusy, FarmError
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.cluster import link as cluster_link
from tidy_crate.core.farm.links.cluster.commands import filled
from tidy_crate.core.farm.links.cluster.link import ClusterFarm
from tidy_crate.core.farm.links.cluster.shell import Shell
from tidy_crate.core.farm.links.cluster.slurm import in_rows, is_up
from tidy_crate.core.farm.protocol import Action
from tidy_crate.core.job.actions import act
from tidy_crate.core.job.ledger import Ledger
from tidy_crate.core.job.retrieve import retrieve
from tidy_crate.core.job.send import send
from tidy_crate.core.job.track import JobView, track

# a renderer that writes down what it does, and is told by files what goes wrong
RENDERER = """
import os, sys, time
from pathlib import Path
told, frames, into = Path(sys.argv[1]), sys.argv[2], Path(sys.argv[3])
for part in frames.split(","):
    first, _, last = part.partition("-")
    for frame in range(int(first), int(last or first) + 1):
        node = os.environ.get("SLURMD_NODENAME", "")
        with open(told / "begun", "a") as out: out.write(f"{frame} {node}\\n")
        while (told / f"hang {frame}").exists(): time.sleep(0.05)
        if (told / f"fail {frame}").exists():
            print(f"frame {frame} cannot be rendered"); sys.exit(1)
        time.sleep(0.05)
        for name in ("beauty", "matte"):
            path = into / f"lantern_quay_{name}.{frame:04d}.exr"
            path.with_suffix(".tmp").write_bytes(f"{name} {frame}".encode() * 100)
            path.with_suffix(".tmp").rename(path)
        with open(told / "ended", "a") as out: out.write(f"{frame}\\n")
"""
HERE = Path(__file__).parent
EXTRAS = HERE.parents[1] / "examples/studio_extras"
sys.path.insert(0, str(EXTRAS))
Spool = importlib.import_module("studio_extras.spool").Spool


@dataclass
class Site:
    """A site with an engine, a share, and a renderer that is told what goes wrong."""

    kind: str
    folder: Path
    slurm: SlurmHere | None = None
    running: list[subprocess.Popen[bytes]] = field(default_factory=list)

    @property
    def shared(self) -> Path:
        return self.folder / "share"

    def tell(self, name: str) -> None:
        (self.folder / name).touch()

    def untell(self, name: str) -> None:
        (self.folder / name).unlink()

    def count(self, name: str) -> Counter[int]:
        path = self.folder / name
        return Counter(int(line.split()[0]) for line in path.read_text().splitlines()) if path.exists() else Counter()

    def start_machines(self) -> None:
        """Let two machines look into the spool folder."""
        line = [sys.executable, str(EXTRAS / "studio_extras/spool.py"), str(self.shared / "spool")]
        self.running += [subprocess.Popen(line) for _ in range(2)]
        while len(list(self.shared.glob("spool/machines/*"))) < 2:
            time.sleep(0.05)

    def farm(self, card: FarmCard) -> ClusterFarm:
        return ClusterFarm(card, engine=Spool(self.shared / "spool") if self.kind == "spool" else None)

    def card(self, **more: Any) -> FarmCard:
        queue = [sys.executable, str(HERE.parent / "data" / "queue.py"), str(self.folder / "queue")]
        commands = {
            "submit": [*queue, "add", "--name={job}", "--gpus={gpus}", "--pool={pool}", "{program}"],
            "id": "batch ([0-9]+) is queued", "state": [*queue, "show", "{id}"], "cancel": [*queue, "remove", "{id}"],
            "log": [*queue, "log", "{id}"],
        }  # fmt: skip
        own: dict[str, Any] = {"shared": str(self.shared), "python": sys.executable}
        if self.kind == "commands":
            own |= {"commands": commands, "submit": {"pool": "night"}}
        machine = {"name": "m", "nodes": 2, "score": 100, "memory_gb": 8, "price_per_hour": 36}
        return FarmCard.model_validate(
            {"name": "lab", "url": f"{self.kind}:", "currency": "EUR", "rates_from": TODAY, "practice": True,
             "operator": {"kind": "own"}, "cluster": own, "machine": [machine | more.pop("of_machine", {})],
             "program": [{"name": "practice", "role": "renderer", "versions": ["1.*"], "command": [
                 "{python}", str(self.folder / "renderer.py"), str(self.folder), "{frames}", "{output_folder}"]}
                 | more.pop("of_program", {})]} | more
        )  # fmt: skip


@pytest.fixture(scope="module")
def slurm_here(tmp_path_factory: pytest.TempPathFactory) -> Iterator[SlurmHere]:
    if missing():
        pytest.skip(missing())
    with slurm(tmp_path_factory.mktemp("slurm")) as found:
        yield found


@pytest.fixture(params=["here", "commands", "spool", "slurm"])
def site(request: pytest.FixtureRequest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Site]:
    found = Site(request.param, tmp_path)
    for name in ("share", "queue"):
        (tmp_path / name).mkdir()
    (tmp_path / "renderer.py").write_text(RENDERER)
    monkeypatch.setattr(cluster_link, "JUST_HANDED", 1.0)
    monkeypatch.setattr(cluster_link, "ASK_SCHEDULER", 0.5)
    if request.param == "slurm":
        found.slurm = request.getfixturevalue("slurm_here")
        monkeypatch.setenv("SLURM_CONF", found.slurm.environment["SLURM_CONF"])
        found.slurm.ready()
    if request.param == "spool":
        found.start_machines()
    yield found
    if found.slurm is not None:
        found.slurm.run("scancel", "--me")
    for one in psutil.process_iter():
        with contextlib.suppress(psutil.Error):
            if any(str(tmp_path) in word for word in one.cmdline()):
                one.kill()
    for machine in found.running:
        machine.wait()


@dataclass
class Sent:
    """A job at a site."""

    site: Site
    card: FarmCard
    ledger: Ledger
    job: str

    def opened(self, _: object) -> Any:
        # each look is by another link, as by another process
        return self.site.farm(self.card).link()

    def look(self) -> JobView:
        return track(self.ledger, self.job, self.opened)

    def until(self, wanted: Callable[[JobView], bool], seconds: float = 60) -> JobView:
        return until(self.look, wanted, seconds)

    def act(self, action: Action) -> None:
        act(self.ledger, self.job, action, self.opened)

    def rendered(self) -> Counter[int]:
        """How often each frame was brought home."""
        lines = (line for path in self.folder.glob("records/*.jsonl") for line in path.read_bytes().splitlines())
        return Counter(one["task"]["frame"] for one in map(json.loads, lines) if one["state"] == "done")

    @property
    def folder(self) -> Path:
        (found,) = (self.site.shared / "jobs").iterdir()
        return found


@pytest.fixture
def sent(site: Site, packed: tuple[SceneContext, Path], tmp_path: Path) -> Callable[..., Sent]:
    def sends(card: FarmCard | None = None, **wishes: Any) -> Sent:
        card = card or site.card()
        ledger = Ledger(tmp_path / "ledger.sqlite")
        order = prepared(packed[1], card, **{"frames": "1001-1006", "batch": 2} | wishes)
        return Sent(site, card, ledger, send(order, card, Path("x"), site.farm(card).link(), ledger).job)

    return sends


def test_n7_a_job_goes_its_way_on_every_engine(sent: Callable[..., Sent], site: Site, tmp_path: Path) -> None:
    assert [one.works for one in site.farm(site.card()).trial()] == [True, True]
    job = sent()
    view = job.until(lambda view: view.state == "done")
    assert view.done == 6 and view.cost is not None and view.cost > 0
    came = retrieve(job.ledger, job.job, tmp_path / "frames", job.opened)
    assert came.at_home == 12 and not came.damaged and came.ended
    assert set(site.count("ended").values()) == {1}
    if site.kind == "commands":
        # a word whose placeholder the order leaves open is left out
        assert {line.split()[1] for line in (site.folder / "queue" / "all").read_text().splitlines()} == {
            "--pool=night"
        }


def test_n7_a_frame_that_fails_is_tried_again_and_costs_no_other(sent: Callable[..., Sent], site: Site) -> None:
    site.tell("fail 1003")
    view = sent(retries=1).until(lambda view: view.state == "failed")
    assert view.done == 5 and view.counts.failed == 1
    assert "frame 1003 cannot be rendered" in (view.troubles[0].error or "")
    assert site.count("begun")[1003] == 2


def test_n7_a_pause_gives_the_nodes_back_and_a_cancel_ends_what_renders(sent: Callable[..., Sent], site: Site) -> None:
    site.tell("hang 1003")
    job = sent(batch=6)
    job.until(lambda view: view.done == 1)
    job.act(Action.PAUSE)
    site.tell("hang 1006")
    site.untell("hang 1003")
    until_gone(site)
    assert 1 <= job.look().done < 5 and job.look().state == "paused"
    job.act(Action.RESUME)
    job.until(lambda view: view.done == 4)
    job.act(Action.CANCEL)
    assert job.look().state == "cancelled"
    until_gone(site)


def until_gone(site: Site) -> None:
    deadline = time.monotonic() + 30
    while _renderers(site):
        assert time.monotonic() < deadline, _renderers(site)
        time.sleep(0.2)


def _renderers(site: Site) -> list[psutil.Process]:
    found = []
    for one in psutil.process_iter():
        with contextlib.suppress(psutil.Error):
            if str(site.folder / "renderer.py") in one.cmdline() and one.status() != psutil.STATUS_ZOMBIE:
                found.append(one)
    return found


def test_n7_an_engine_that_forgets_its_batches_is_given_what_is_left(sent: Callable[..., Sent], site: Site) -> None:
    site.tell("hang 1002")
    job = sent(batch=1)
    job.until(lambda view: view.done > 0 and view.counts.rendering > 0)
    forget(site)
    site.untell("hang 1002")
    # claims of processes that are gone are over after a minute
    for path in job.folder.glob("claims/[0-9]*"):
        with contextlib.suppress(FileNotFoundError):
            os.utime(path, (time.time() - 100,) * 2)
    view = job.until(lambda view: view.state == "done")
    assert view.done == 6 and job.rendered() == Counter(range(1001, 1007))


def forget(site: Site) -> None:
    """Let the engine lose all that it was given, with what runs."""
    match site.kind:
        case "slurm":
            assert site.slurm is not None
            site.slurm.run("scancel", "--me")
        case "commands":
            for path in (site.folder / "queue").glob("*.job"):
                path.unlink()
        case "here":
            for path in (site.shared / "here" / "queue").glob("*"):
                path.unlink()
    for one in psutil.process_iter():
        with contextlib.suppress(psutil.Error):
            words = one.cmdline()
            if str(site.folder) in " ".join(words) and one.pid != os.getpid() and "slurm" not in words[0]:
                one.kill()
    (site.shared / "here" / "runner").unlink(missing_ok=True)
    if site.kind == "spool":
        for path in [*site.shared.glob("spool/machines/*"), *site.shared.glob("spool/*.todo")]:
            path.unlink()
        site.start_machines()


def test_n7_what_never_renders_is_lost_after_two_more_tries_and_known(
    sent: Callable[..., Sent], site: Site, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(cluster_link, "MOST_IDLE", 1)
    gone = str(site.folder / "gone" / "python")
    if site.kind in ("here", "spool"):
        pytest.skip("this engine runs the Python that it runs in itself")
    card = site.card()
    card = card.model_copy(update={"cluster": card.cluster.model_copy(update={"python": gone})})
    view = sent(card, frames="1001-1002").until(lambda view: view.state == "failed")
    assert view.counts.failed == 2
    said = view.troubles[0].error or ""
    assert "was lost" in said and ("FAILED" in said if site.kind == "slurm" else "ended with 127" in said)


def test_n7_a_cap_is_kept_by_the_nodes_themselves(sent: Callable[..., Sent], site: Site) -> None:
    card = site.card(of_machine={"price_per_hour": 36000})
    # 10 a second: a frame of some tenths costs several
    job = sent(card, cap="12", frames="1001-1040", batch=40, nodes=1)
    # nobody looks at it meanwhile
    deadline = time.monotonic() + 60
    while not (job.folder / "capped-0").exists():
        assert time.monotonic() < deadline
        time.sleep(0.2)
    until_gone(site)
    assert "more than its cap of 12" in (job.folder / "capped-0").read_text()
    view = job.look()
    assert view.state == "paused" and view.done < 40 and view.cost is not None and 0 < view.cost < 24
    if site.kind == "here":
        act(job.ledger, job.job, Action.RESUME, job.opened, cap=(Decimal(100_000), view.currency))
        more = job.until(lambda now: now.done > view.done)
        assert more.at[0].cap == 100_000 and json.loads((job.folder / "node-order.json").read_text())["cap"] == 100_000
        job.act(Action.CANCEL)


def test_n7_words_of_a_card_become_words_of_its_commands() -> None:
    with pytest.raises(FarmError, match=r"placeholder that there is not: \{pool\}") as caught:
        filled(["add", "--pool={pool}"], {"job": "quay-1"})
    assert "{job}" in (caught.value.remedy or "")
    assert in_rows([], 5) == [] and in_rows(["a"], 5) == [["a"]]
    assert sum(map(len, in_rows([str(one) for one in range(5000)], 1000)), 0) == 5000
    assert not is_up("draining") and is_up("allocated")


def test_n7_a_login_node_that_does_not_answer_is_told() -> None:
    with pytest.raises(FarmBusy, match="login node cannot be reached"):
        Shell("127.0.0.1", 9).run(["sinfo"])
    with pytest.raises(FarmError, match="not-a-program is not installed"):
        Shell().run(["not-a-program"])


# ---- Slurm alone


@pytest.fixture
def only_slurm(site: Site) -> SlurmHere:
    if site.slurm is None:
        pytest.skip("for Slurm alone")
    return site.slurm


def test_n7_wishes_become_options_of_slurm(sent: Callable[..., Sent], site: Site, only_slurm: SlurmHere) -> None:
    site.tell("hang 1001")
    card = site.card(
        of_machine={"cores": 1, "submit": {"constraint": "n2"}, "reclaimable": {"submit": {"partition": "scavenge"}}},
        limits={"minutes_per_frame": 3},
        priority=[{"name": "usual"}, {"name": "first"}],
        cluster=site.card().cluster.model_copy(update={"submit": {"licenses": "brush:1"}}),
    )
    sent(card, frames="1001-1004", batch=2, nodes=1, memory_gb=0.5, reclaimable=True, priority="first")
    said = only_slurm.run("scontrol", "show", "--oneliner", "job")
    for words in ("Partition=scavenge", "Features=n2", "MinMemoryNode=512M", "Licenses=brush:1", "CPUs/Task=1",
                  "TimeLimit=00:21:00", "ArrayTaskThrottle=1", "Nice=0", "Requeue=1"):  # fmt: skip
        assert words in said, (words, said)


def test_n7_a_job_goes_to_slurm_through_a_login_node(
    sent: Callable[..., Sent], site: Site, only_slurm: SlurmHere, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    if SSHD is None or shutil.which("ssh") is None:
        pytest.skip("needs OpenSSH's server and client")
    keys = tmp_path / "keys"
    keys.mkdir()
    # this machine knows nothing of Slurm: the login node does
    monkeypatch.setenv("SLURM_CONF", str(tmp_path / "nothing"))
    with ssh_server(keys, f"SetEnv SLURM_CONF={only_slurm.environment['SLURM_CONF']}\n") as port:
        place = {"user": "root", "key_file": str(keys / "user"), "known_hosts": str(keys / "known_hosts")}
        card = site.card(url=f"slurm://127.0.0.1:{port}", place=place)
        assert [one.works for one in ClusterFarm(card).trial()] == [True, True]
        job = sent(card)
        assert job.until(lambda view: view.state == "done").done == 6
        stranger = Shell("127.0.0.1", port, "root", str(keys / "other"), str(keys / "known_hosts"))
        with pytest.raises(FarmBusy, match="login node cannot be reached"):
            stranger.run(["sinfo"])


def test_n7_an_option_that_a_card_may_not_give_is_refused(
    site: Site, sent: Callable[..., Sent], only_slurm: SlurmHere
) -> None:
    card = site.card(of_machine={"submit": {"output": "/etc/cron.d/x"}})
    with pytest.raises(FarmError, match="the card gives Slurm the option 'output'"):
        sent(card)
    with pytest.raises(FarmError, match="how reclaimable nodes of the class m"):
        sent(site.card(of_machine={"reclaimable": {}}), reclaimable=True, frames="1003")


def test_n7_a_node_that_is_taken_back_or_lost_costs_no_frame(
    sent: Callable[..., Sent], site: Site, only_slurm: SlurmHere, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A job on reclaimable nodes is preempted by another one; its batches come back where they were."""
    site.tell("hang 1003")
    card = site.card(of_machine={"reclaimable": {"submit": {"partition": "scavenge"}}})
    job = sent(card, frames="1001-1006", batch=6, reclaimable=True)
    job.until(lambda view: view.done == 2)
    only_slurm.run(
        "sbatch", "--partition=render", "--exclusive", "--nodes=2", "--output=/dev/null", "--wrap", "sleep 1"
    )
    deadline = time.monotonic() + 30
    while "PREEMPT" not in only_slurm.run("squeue", "-h", "-o", "%T %r") and _renderers(site):
        assert time.monotonic() < deadline
        time.sleep(0.1)
    until_gone(site)
    site.untell("hang 1003")

    def is_done(view: JobView) -> bool:
        # Slurm waits two minutes before it starts a requeued job: not so long here
        for number in only_slurm.run("squeue", "--me", "-h", "--array", "-o", "%i").split():
            only_slurm.run("scontrol", "update", f"JobId={number}", "StartTime=now")
        return view.state == "done"

    view = job.until(is_done)
    assert view.done == 6 and set(site.count("ended").values()) == {1}


def test_n7_a_node_that_does_not_see_the_share_is_left_out_and_eats_no_batch(
    sent: Callable[..., Sent], site: Site, only_slurm: SlurmHere, monkeypatch: pytest.MonkeyPatch
) -> None:
    from tidy_crate.core.farm.links.cluster import slurm as engine

    # one node is blind: it is on the same machine here, so the script is told so
    blind = engine.SCRIPT.replace("[ -f %(program)s ]", '[ "$SLURMD_NODENAME" != n1 ]')
    monkeypatch.setattr(engine, "SCRIPT", blind)
    job = sent(frames="1001-1006", batch=1)
    assert job.until(lambda view: view.state == "done").done == 6
    nodes = {line.split()[1] for line in (site.folder / "begun").read_text().splitlines()}
    assert nodes == {"n2"}


def test_n7_the_controller_is_away_for_a_while(sent: Callable[..., Sent], site: Site, only_slurm: SlurmHere) -> None:
    site.tell("hang 1002")
    job = sent(batch=2)
    job.until(lambda view: view.done > 0)
    only_slurm.kill("slurmctld", signal.SIGKILL)
    site.untell("hang 1002")
    # what nodes write is known without the controller
    job.until(lambda view: view.done > 1)
    only_slurm.start("slurmctld")
    view = job.until(lambda view: view.state == "done", 120)
    assert view.done == 6 and set(site.count("ended").values()) == {1}
