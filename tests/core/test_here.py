"""N7: this machine as a farm: the same job, ledger, tracking and review, with processes of its own."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import psutil
import pytest
from test_cluster import RENDER, until

from conftest import Run
from farms import TODAY, prepared
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.errors import FarmError
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.cluster.link import ClusterFarm
from tidy_crate.core.farm.protocol import Action
from tidy_crate.core.job.actions import act
from tidy_crate.core.job.ledger import Ledger
from tidy_crate.core.job.retrieve import retrieve
from tidy_crate.core.job.send import send
from tidy_crate.core.job.track import track
from tidy_crate.core.review.run import review_job

CARD = """name = "desk"
url = "here:"
currency = "EUR"
rates_from = {today}
practice = true
[operator]
kind = "own"
[cluster]
shared = "{shared}"
[[machine]]
name = "desk"
nodes = 2
score = 100
memory_gb = 8
price_per_hour = 36
"""


@pytest.fixture
def shared(tmp_path: Path) -> Iterator[Path]:
    """A folder for crates and frames. What renders there ends with the test."""
    folder = tmp_path / "shared"
    folder.mkdir()
    yield folder
    for one in _runners(folder):
        one.terminate()
        one.wait(20)


def _runners(folder: Path) -> list[psutil.Process]:
    found = []
    for one in psutil.process_iter():
        try:
            if str(folder / "here") in one.cmdline():
                found.append(one)
        except psutil.Error:
            continue
    return found


def card_for(shared: Path, **more: object) -> FarmCard:
    return FarmCard.model_validate(
        {"name": "desk", "url": "here:", "currency": "EUR", "rates_from": TODAY, "practice": True,
         "operator": {"kind": "own"}, "cluster": {"shared": str(shared)},
         "program": [{"name": "practice", "role": "renderer", "versions": ["1.*"], "command": RENDER}],
         "machine": [{"name": "desk", "nodes": 2, "score": 100, "memory_gb": 8, "price_per_hour": 36}]} | more
    )  # fmt: skip


def asked(packed: tuple[SceneContext, Path], card: FarmCard, **more: object) -> object:
    wishes: dict[str, object] = {"frames": "1001-1006", "size": "48x27", "samples": 1, "batch": 2}
    return prepared(packed[1], card, **wishes | more)


def test_n7_a_job_renders_here_after_the_command_has_ended_and_comes_home(
    packed: tuple[SceneContext, Path], shared: Path, tmp_path: Path
) -> None:
    card, ledger = card_for(shared), Ledger(tmp_path / "ledger.sqlite")
    assert [one.works for one in ClusterFarm(card).trial()] == [True, True]
    sent = send(asked(packed, card), card, Path("x"), ClusterFarm(card).link(), ledger)  # type: ignore[arg-type]
    opened = lambda _: ClusterFarm(card).link()  # noqa: E731
    view = until(lambda: track(ledger, sent.job, opened), lambda view: view.state == "done")
    assert view.done == 6 and view.cost is not None and view.cost > 0
    came = retrieve(ledger, sent.job, tmp_path / "frames", opened)
    assert came.at_home == 12 and not review_job(ledger, sent.job).frames[0].reasons
    # nothing waits, and nothing runs on
    until(lambda: None, lambda _: not _runners(shared))  # type: ignore[arg-type, return-value]
    assert not list((shared / "here" / "queue").iterdir())


def test_n7_after_a_restart_of_the_machine_a_look_at_the_job_goes_on(
    packed: tuple[SceneContext, Path], shared: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("tidy_crate.core.farm.links.cluster.link.JUST_HANDED", 1.0)
    card, ledger = card_for(shared), Ledger(tmp_path / "ledger.sqlite")
    sent = send(asked(packed, card), card, Path("x"), ClusterFarm(card).link(), ledger)  # type: ignore[arg-type]
    opened = lambda _: ClusterFarm(card).link()  # noqa: E731
    until(lambda: track(ledger, sent.job, opened), lambda view: view.done > 0)
    (runner,) = _runners(shared)
    below = runner.children(recursive=True)
    runner.kill()
    for one in below:
        one.kill()
    # as after a while: the notes of processes that are gone count no more
    for path in [shared / "here" / "runner", *next((shared / "jobs").iterdir()).glob("claims/[0-9]*")]:
        os.utime(path, (time.time() - 100,) * 2)
    view = until(lambda: track(ledger, sent.job, opened), lambda view: view.state == "done")
    assert view.done == 6


def test_n7_two_jobs_share_the_machine_by_their_rank_and_a_cancel_ends_what_renders(
    packed: tuple[SceneContext, Path], shared: Path, tmp_path: Path
) -> None:
    hangs = [{"name": "practice", "role": "renderer", "versions": ["1.*"],
              "command": (sys.executable, "-c", "import time; time.sleep(88.5)")}]  # fmt: skip
    card, ledger = card_for(shared, program=hangs), Ledger(tmp_path / "ledger.sqlite")
    link = ClusterFarm(card).link()
    sent = send(asked(packed, card), card, Path("x"), link, ledger)  # type: ignore[arg-type]
    until(lambda: track(ledger, sent.job, lambda _: link), lambda view: view.counts.rendering == 4)
    act(ledger, sent.job, Action.CANCEL, lambda _: link)
    until(lambda: None, lambda _: not _runners(shared))  # type: ignore[arg-type, return-value]
    assert not [one for one in psutil.process_iter() if "time.sleep(88.5)" in " ".join(_words(one))]


def _words(one: psutil.Process) -> list[str]:
    try:
        return one.cmdline() if one.status() != psutil.STATUS_ZOMBIE else []
    except psutil.Error:
        return []


def test_n7_a_machine_that_cannot_is_told_before_anything_waits(
    packed: tuple[SceneContext, Path], shared: Path, tmp_path: Path
) -> None:
    old = [{"name": "practice", "role": "renderer", "versions": ["1.*"], "command": RENDER,
            "version_command": (sys.executable, "-c", "print('practice 1.4')")}]  # fmt: skip
    card = card_for(shared, program=old)
    wishes = asked(packed, card, programs={"practice": "1.5"})
    with pytest.raises(FarmError, match=r"another version than 1\.5"):
        send(wishes, card, Path("x"), ClusterFarm(card).link(), Ledger(tmp_path / "l.sqlite"))  # type: ignore[arg-type]
    assert not (shared / "here").exists() or not list((shared / "here" / "queue").glob("*"))


def test_n7_by_the_program_from_send_to_frames(
    packed: tuple[SceneContext, Path], shared: Path, tmp_path: Path, run: Run
) -> None:
    card = tmp_path / "desk.farm.toml"
    card.write_text(CARD.format(today=TODAY, shared=shared))
    words = ("send", packed[1], "--farm", card, "--yes", "--frames", "1001-1002", "--size", "48x27", "--samples", "1")
    refused = run.here(*words)
    # the scene brings the command: it is agreed to like any other
    assert refused.code == 2 and "you have not trusted" in refused.err
    assert run.here("trust", packed[1]).code == 0
    sent = run.here(*words, "--json")
    assert sent.code == 0, sent.err
    job = sent.json["job"]
    assert run.here("track", job, "--follow", "--json").json["state"] == "done"
    assert run.here("retrieve", job, "--into", tmp_path / "frames", "--json").json["at_home"] == 4
