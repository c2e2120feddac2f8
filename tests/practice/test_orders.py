"""Orders with terms on the practice farm over a real socket: holds, quotes, payment, caps, lost machines, faults."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from decimal import Decimal
from pathlib import Path

import pytest

from conftest import Run
from farms import prepared
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.errors import FarmError, WrongUsage
from tidy_crate.core.farm.card import FarmCard, read_card
from tidy_crate.core.farm.links.http import HttpFarm
from tidy_crate.core.farm.links.interface import FarmLink
from tidy_crate.core.farm.protocol import Action
from tidy_crate.core.job.actions import act, refunds, resubmit_failed
from tidy_crate.core.job.grid import frame_grid
from tidy_crate.core.job.ledger import Ledger
from tidy_crate.core.job.retrieve import retrieve
from tidy_crate.core.job.send import send
from tidy_crate.core.job.track import JobView, cancel, track
from tidy_crate.core.work.task import Task
from tidy_crate.practice.farm import control
from tidy_crate.practice.farm.settings import LINE_FAULTS, FarmSettings, parse_line_fault

SMALL = {"frames": "1001-1008", "size": "48x27", "samples": 1, "batch": 2}


@contextmanager
def farm_with(folder: Path, **settings: object) -> Iterator[tuple[FarmCard, FarmLink]]:
    """A farm with these settings, on synthetic nodes unless it is said otherwise."""
    usual = {"nodes": 4, "synthetic_seconds": 20, "startup_seconds": 30}
    control.start(folder, FarmSettings.model_validate(usual | settings))
    card = read_card(folder / "practice.farm.toml")
    farm = HttpFarm(card.name, card.url, (folder / "token").read_text(), patience=0.02)
    try:
        yield card, farm.link()
    finally:
        farm.close()
        control.stop(folder)


@pytest.fixture
def ledger(tmp_path: Path) -> Ledger:
    return Ledger(tmp_path / "ledger.sqlite")


def until(ask: Callable[[], JobView], state: str, seconds: float = 60) -> JobView:
    deadline = time.monotonic() + seconds
    while True:
        view = ask()
        if view.state == state:
            return view
        assert time.monotonic() < deadline, (view.state, view.counts)
        time.sleep(0.05)


def test_u5_a_held_job_begins_when_it_is_told(
    packed: tuple[SceneContext, Path], ledger: Ledger, tmp_path: Path
) -> None:
    with farm_with(tmp_path / "farm") as (card, link):
        opened = lambda _: link  # noqa: E731
        job = send(prepared(packed[1], card, **SMALL, start="held"), card, Path("x"), link, ledger).job
        view = track(ledger, job, opened)
        assert (view.state, view.done, view.cost) == ("held", 0, 0)
        with pytest.raises(WrongUsage, match="cannot be paused"):
            act(ledger, job, Action.PAUSE, opened)
        assert act(ledger, job, Action.RESUME, opened) == ("practice",)
        assert until(lambda: track(ledger, job, opened), "done").done == 8


def test_u5_the_farm_renders_the_test_frames_and_holds_the_rest(
    packed: tuple[SceneContext, Path], ledger: Ledger, tmp_path: Path
) -> None:
    with farm_with(tmp_path / "farm") as (card, link):
        opened = lambda _: link  # noqa: E731
        wishes = prepared(packed[1], card, **SMALL, start="tested", test_frames="1004,1007")
        job = send(wishes, card, Path("x"), link, ledger).job
        view = until(lambda: track(ledger, job, opened), "held")
        assert view.done == 2 and {row.frame for row in view.frames if row.state == "done"} == {1004, 1007}
        grid = frame_grid(ledger, job, 100)
        assert "".join(cell.state[0] for cell in grid.cells) == "wwwdwwdw"
        act(ledger, job, Action.RESUME, opened)
        assert until(lambda: track(ledger, job, opened), "done").done == 8
        assert [cell.frames for cell in frame_grid(ledger, job, 3).cells] == [3, 3, 2]


def test_e14_a_job_waits_for_quote_acceptance_and_payment_and_the_price_is_fixed(
    packed: tuple[SceneContext, Path], ledger: Ledger, tmp_path: Path
) -> None:
    with farm_with(tmp_path / "farm", waits_for=["quote"], balance="0.10") as (card, link):
        opened = lambda _: link  # noqa: E731
        job = send(prepared(packed[1], card, **SMALL), card, Path("x"), link, ledger).job
        view = until(lambda: track(ledger, job, opened), "offered")
        offer = view.at[0].offer
        assert offer is not None and offer.binding and offer.cost > Decimal("0.10") and view.cost == 0
        act(ledger, job, Action.RESUME, opened)
        until(lambda: track(ledger, job, opened), "unpaid")
        control.pay(tmp_path / "farm", Decimal(50))
        view = until(lambda: track(ledger, job, opened), "done")
        assert view.cost == offer.cost and view.done == 8


def test_t6_cancelling_brings_back_what_was_not_rendered_of_a_fixed_price(
    packed: tuple[SceneContext, Path], ledger: Ledger, tmp_path: Path
) -> None:
    slow = {"clock": 20, "synthetic_seconds": 40, "nodes": 2, "quoted_seconds": 40}
    with farm_with(tmp_path / "farm", waits_for=["quote"], **slow) as (card, link):
        opened = lambda _: link  # noqa: E731
        job = send(prepared(packed[1], card, **SMALL), card, Path("x"), link, ledger).job
        offer = until(lambda: track(ledger, job, opened), "offered").at[0].offer
        assert offer is not None
        act(ledger, job, Action.RESUME, opened)
        deadline = time.monotonic() + 30
        while track(ledger, job, opened).done < 2 and time.monotonic() < deadline:
            time.sleep(0.05)
        (said,) = refunds(ledger, job, opened)
        view = cancel(ledger, job, opened)
        left = (8 - view.done) / 8
        assert view.state == "cancelled" and 2 <= view.done < 8
        assert float(view.at[0].refunded) == pytest.approx(float(offer.cost) * left, abs=0.02)
        assert said.likely >= view.at[0].refunded and "fixed" in said.because
        assert view.cost == offer.cost - view.at[0].refunded


def test_t6_all_comes_back_when_the_farm_loses_a_node(
    packed: tuple[SceneContext, Path], ledger: Ledger, tmp_path: Path
) -> None:
    slow = {"clock": 60, "synthetic_seconds": 40, "nodes": 2, "faults": ["lost:1001"]}
    with farm_with(tmp_path / "farm", **slow) as (card, link):
        opened = lambda _: link  # noqa: E731
        job = send(prepared(packed[1], card, **SMALL), card, Path("x"), link, ledger).job
        deadline = time.monotonic() + 30
        while not track(ledger, job, opened).at[0].refunded and time.monotonic() < deadline:
            time.sleep(0.05)
        view = track(ledger, job, opened)
        assert view.at[0].refunded > 0
        view = cancel(ledger, job, opened)
        assert view.cost == 0 and view.state == "cancelled"


def test_t5_a_job_that_will_break_its_cap_is_paused_and_says_why(
    packed: tuple[SceneContext, Path], ledger: Ledger, tmp_path: Path
) -> None:
    slow = {"clock": 60, "synthetic_seconds": 60, "nodes": 2, "startup_seconds": 0}
    with farm_with(tmp_path / "farm", **slow) as (card, link):
        opened = lambda _: link  # noqa: E731
        wishes = prepared(packed[1], card, **SMALL | {"frames": "1001-1030"}, cap="2.00")
        job = send(wishes, card, Path("x"), link, ledger).job
        view = until(lambda: track(ledger, job, opened), "paused")
        assert (view.why and "the cap is 2.00" in view.why[0]) or "its cap of 2.00" in view.why[0]
        # 30 frames of a minute at 24 an hour would be 12.00
        assert view.cost is not None and view.cost < 6 and view.done < 15
        # at its cap it goes on with a higher one only
        for wrong, said in ((Decimal("0.5"), "are spent"), (Decimal(-1), "are spent")):
            with pytest.raises(WrongUsage, match=said):
                act(ledger, job, Action.RESUME, opened, cap=(wrong, view.currency))
        with pytest.raises(WrongUsage, match="bills in"):
            act(ledger, job, Action.RESUME, opened, cap=(Decimal(50), "CHF"))
        act(ledger, job, Action.RESUME, opened, cap=(Decimal(50), view.currency))
        done = until(lambda: track(ledger, job, opened), "done")
        assert done.done == 30 and done.at[0].cap == 50 and not done.why


def test_t2_reclaimed_machines_cost_tries_and_no_frames_and_slow_ones_stand_out(
    packed: tuple[SceneContext, Path], ledger: Ledger, tmp_path: Path
) -> None:
    moody = {"clock": 400, "nodes": 4, "node_speeds": [1, 1, 1, 0.3], "reclaims_per_hour": 30, "arrive_seconds": 20}
    with farm_with(tmp_path / "farm", **moody) as (card, link):
        opened = lambda _: link  # noqa: E731
        wishes = SMALL | {"frames": "1001-1040", "retries": 12}
        with pytest.raises(WrongUsage, match="no such priority"):
            prepared(packed[1], card, **wishes, priority="soon")
        job = send(prepared(packed[1], card, **wishes, reclaimable=True), card, Path("x"), link, ledger).job
        view = until(lambda: track(ledger, job, opened), "done")
        assert view.done == 40 and max(row.attempt for row in view.frames) > 1
        assert any("slow" in node.marks and node.name == "node-04" for node in view.nodes)
        assert all(node.gone for node in view.nodes)
        came = retrieve(ledger, job, tmp_path / "frames", opened)
        assert came.at_home == 80 and not came.missing


def test_t6_only_what_failed_is_rendered_again(
    packed: tuple[SceneContext, Path], ledger: Ledger, tmp_path: Path
) -> None:
    slow = {"clock": 300, "nodes": 2, "faults": ["lost:1003"]}
    with farm_with(tmp_path / "farm", **slow) as (card, link):
        opened = lambda _: link  # noqa: E731
        with pytest.raises(FarmError, match="no such job"):
            link.changes.summary("nothing")  # type: ignore[union-attr]
        job = send(prepared(packed[1], card, **SMALL, retries=0), card, Path("x"), link, ledger).job
        view = track(ledger, job, opened)
        deadline = time.monotonic() + 30
        while view.state not in ("failed", "done") and time.monotonic() < deadline:
            view = track(ledger, job, opened)
            time.sleep(0.05)
        if view.state == "failed":
            assert resubmit_failed(ledger, job, opened) == (Task("main", 1003),)
            view = until(lambda: track(ledger, job, opened), "done")
        assert view.done == 8
        with pytest.raises(WrongUsage, match="no frame of this job has failed"):
            resubmit_failed(ledger, job, opened)


def test_f7_a_farm_that_numbers_from_zero_is_put_right(
    packed: tuple[SceneContext, Path], ledger: Ledger, tmp_path: Path
) -> None:
    with farm_with(tmp_path / "farm", from_zero=True) as (card, link):
        assert card.outputs.from_zero
        renumbered = replace(link, from_zero=card.outputs.from_zero)
        opened = lambda _: renumbered  # noqa: E731
        job = send(prepared(packed[1], card, **SMALL | {"frames": "1005-1008"}), card, Path("x"), link, ledger).job
        view = until(lambda: track(ledger, job, opened), "done")
        assert {row.frame for row in view.frames if row.state == "done"} == {1005, 1006, 1007, 1008}


def test_x3_faults_of_the_line_are_outlived_and_nothing_is_sent_or_billed_twice(
    packed: tuple[SceneContext, Path], ledger: Ledger, tmp_path: Path
) -> None:
    with farm_with(tmp_path / "farm", line_faults={"drop": 0.25, "error": 0.2}) as (card, _):
        farm = HttpFarm(card.name, card.url, (tmp_path / "farm/token").read_text(), patience=0.001)
        opened = lambda _: farm.link()  # noqa: E731

        def again(work: Callable[[], object]) -> object:
            for _ in range(60):
                try:
                    return work()
                except FarmError:
                    continue
            raise AssertionError("it never worked")

        sending = prepared(packed[1], card, **SMALL)
        again(lambda: send(sending, card, Path("x"), farm.link(), ledger))
        control.switch_faults(tmp_path / "farm", {"drop": 0.1, "error": 0.1, "busy": 0})
        from tidy_crate.core.job.listing import list_jobs

        (line,) = list_jobs(ledger)
        again(lambda: until(lambda: track(ledger, line.job, opened), "done"))
        again(lambda: retrieve(ledger, line.job, tmp_path / "frames", opened))
        control.switch_faults(tmp_path / "farm", dict.fromkeys(LINE_FAULTS, 0.0))
        view = track(ledger, line.job, opened)
        assert view.at_home == 16 and all(row.attempt == 1 for row in view.frames)
        farm.close()


def test_u2_a_full_disk_at_the_farm_and_a_token_that_expires_in_the_middle(
    packed: tuple[SceneContext, Path], ledger: Ledger, tmp_path: Path
) -> None:
    with farm_with(tmp_path / "farm", line_faults={"room": 100_000}) as (card, link):
        sending = prepared(packed[1], card, **SMALL)
        with pytest.raises(FarmError, match="no room left"):
            send(sending, card, Path("x"), link, ledger)
        control.switch_faults(tmp_path / "farm", {"room": 0, "expire": 3})
        (tmp_path / "farm/token.next").write_text("a-fresh-token-from-the-farm")
        tokens = [(tmp_path / "farm/token").read_text(), "a-fresh-token-from-the-farm"]
        farm = HttpFarm(card.name, card.url, lambda: tokens.pop(0) if len(tokens) > 1 else tokens[0], patience=0.01)
        sent = send(sending, card, Path("x"), farm.link(), ledger)
        assert 0 < sent.submissions[0].uploaded_bytes <= sending.delivered.bytes
        farm.close()
    # it is stopped by its next token too
    assert not (tmp_path / "farm" / control.RUNNING).exists()


def test_faults_of_the_line_are_read_in_plain_words() -> None:
    assert parse_line_fault("drop=0.2") == ("drop", 0.2)
    for wrong in ("drop", "drop=x", "dance=1", "drop=-1"):
        with pytest.raises(WrongUsage, match="not a fault of the line"):
            parse_line_fault(wrong)


def test_u1_the_token_is_nowhere_in_what_is_written(
    packed: tuple[SceneContext, Path], run: Run, tmp_path: Path
) -> None:
    """Send, track, page, events, JSON, errors: the token is in none of them."""
    home = tmp_path / "home"
    env = {"TIDY_CRATE_HOME": str(home)}
    with farm_with(tmp_path / "farm") as (card, _):
        token = (tmp_path / "farm/token").read_text()
        path = tmp_path / "farm/practice.farm.toml"
        texts = []
        out = run("send", packed[1], "--farm", path, "--frames", "1001-1004", "--yes", "--json", "--events",
                  tmp_path / "events", env=env)  # fmt: skip
        assert out.code == 0, out.err
        job = out.json["job"]
        texts += [out.out, out.err]
        for words in (
            ("track", job, "--follow", "--page", tmp_path / "page.html"), ("jobs", "--balance", "--json"),
            ("track", job, "--json"), ("farm", "test", path), ("log", job, "1002"), ("farm", "show", path),
            ("send", packed[1], "--farm", path, "--show-defaults", "--json"), ("track", "nothing-1"),
        ):  # fmt: skip
            out = run(*words, env=env)
            texts += [out.out, out.err]
        assert "1002 done in" in json.dumps(texts)
        for file in [*home.rglob("*"), tmp_path / "page.html", tmp_path / "events", *packed[1].parent.rglob("*.json")]:
            if file.is_file():
                texts.append(file.read_bytes().decode("utf-8", "replace"))
        assert token not in "".join(texts) and card.name == "practice"
