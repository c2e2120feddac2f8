"""Quotes, the plan and the probe."""

from __future__ import annotations

import json
import time
from collections.abc import Mapping
from dataclasses import replace
from datetime import date
from decimal import Decimal
from pathlib import Path

import numpy as np
import pytest

from conftest import ANY
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.crate.packing import PackingList, read_packing_list
from tidy_crate.core.crate.test_frames import probe_folder, read_test_frames
from tidy_crate.core.errors import Blocked, TidyCrateError, UnreadableInput, WrongUsage
from tidy_crate.core.estimate import plan
from tidy_crate.core.estimate.choose import beside_much_memory
from tidy_crate.core.estimate.estimate import Question, estimate
from tidy_crate.core.estimate.machine import ProbeMachine, this_machine
from tidy_crate.core.estimate.model import Estimate, Quote, Wishes
from tidy_crate.core.estimate.offer import Experience, Offer, Way
from tidy_crate.core.estimate.probe import ProbeWishes, probe
from tidy_crate.core.estimate.probe_result import ProbeResult, read_probe
from tidy_crate.core.estimate.timings import FrameTiming, Timings
from tidy_crate.core.estimate.what_if import parse_change
from tidy_crate.core.exchange import Exchange, ExchangeRate
from tidy_crate.core.farm.card import FarmCard, read_card
from tidy_crate.core.files import read_json, write_json
from tidy_crate.core.process import machine_seconds

MACHINE = {"name": "m", "nodes": 8, "score": 200, "memory_gb": 16, "price_per_hour": "3.60", "startup_seconds": 100}
CARD = {
    "name": "harbour", "url": "https://farm.invalid", "currency": "EUR", "rates_from": "2026-11-01", "practice": True,
    "transfer": {"upload_mbit": 1e6, "download_mbit": 1e6},
}  # fmt: skip
# nothing to bring home, no frame rendered again: what is left is arithmetic
PLAIN = Experience(again=0.0)


def card(name: str = "harbour", machine: Mapping[str, object] | None = None, **changes: object) -> FarmCard:
    return FarmCard.model_validate(CARD | {"name": name, "machine": [MACHINE | dict(machine or {})]} | changes)


def alike(seconds: float = 60.0, count: int = 12, **rest: object) -> Timings:
    """So many frames of the demo measured, all alike."""
    frames = tuple(FrameTiming("main", 1001 + 4 * at, seconds, memory_bytes=2**30) for at in range(count))
    return replace(Timings(frames, 0.0, "measured"), **rest)  # type: ignore[arg-type]


@pytest.fixture
def content(packed: tuple[SceneContext, Path]) -> PackingList:
    return read_packing_list(packed[1])


def asked(content: PackingList, *cards: FarmCard, timings: Timings | None = None, **rest: object) -> Estimate:
    question = Question(
        content, timings or alike(), cards or (card(),), experience=lambda farm, machine: PLAIN, split=False
    )
    return estimate(replace(question, **rest)).estimate  # type: ignore[arg-type]


def by_nodes(result: Estimate, nodes: int) -> Quote:
    return next(quote for quote in result.quotes if quote.nodes == nodes)


def test_e7_quotes_are_ranges_in_order_and_a_faster_machine_is_faster(content: PackingList) -> None:
    result = asked(content)
    assert [quote.nodes for quote in result.quotes] == [1, 2, 4, 8]
    for quote in result.quotes:
        assert quote.cost.low <= quote.cost.likely <= quote.cost.high
        assert quote.seconds.low <= quote.seconds.likely <= quote.seconds.high
    # a score of 200 halves the minute that a frame takes here; 48 frames on one machine, and its start-up
    one = by_nodes(result, 1)
    assert one.seconds.likely == pytest.approx(100 + 48 * 30, rel=0.02)
    assert one.cost.likely == pytest.approx(Decimal(100 + 48 * 30) * Decimal("3.60") / 3600, rel=Decimal("0.02"))
    assert by_nodes(result, 8).seconds.likely == pytest.approx(100 + 6 * 30, rel=0.05)
    assert result.here.seconds.likely == pytest.approx(48 * 60, rel=0.02) and result.frames == 48


def test_e4_several_gpus_by_amdahls_law(content: PackingList) -> None:
    many = card(machine={"gpus": 4, "gpu_parallel": 0.9})
    assert many.machine[0].speed == pytest.approx(200 / (0.1 + 0.9 / 4))
    one = by_nodes(asked(content, many), 1)
    assert one.seconds.likely == pytest.approx(100 + 48 * 60 * 100 / many.machine[0].speed, rel=0.02)


def test_e6_queue_arrival_and_free_machines_make_it_later(content: PackingList) -> None:
    usual = by_nodes(asked(content), 8)
    later = by_nodes(asked(content, card(queue_seconds=[0, 600, 3600])), 8)
    assert later.seconds.likely == pytest.approx(usual.seconds.likely + 600, rel=0.05)
    assert later.seconds.high == pytest.approx(usual.seconds.likely + 3600, rel=0.05)
    few = by_nodes(asked(content, card(machine={"usually_free": [2, 4, 8]})), 8)
    assert few.seconds.likely == pytest.approx(100 + 12 * 30, rel=0.1) and few.seconds.high > 100 + 23 * 30
    come = by_nodes(asked(content, card(machine={"arrive_seconds": 600})), 8)
    assert usual.seconds.likely < come.seconds.likely < usual.seconds.likely + 600


def test_e6_reclaimable_machines_are_cheaper_and_later(content: PackingList) -> None:
    offered = asked(content, card(machine={"reclaimable": {"price": 0.4, "per_hour": 6}}), wishes=Wishes(nodes=4))
    steady, taken = sorted(offered.quotes, key=lambda quote: quote.reclaimable)
    assert taken.cost.likely < steady.cost.likely and taken.seconds.likely > steady.seconds.likely


def test_e8_e9_cheapest_in_time_fastest_within_budget_and_a_good_middle(content: PackingList) -> None:
    dear = card("brisk", {"score": 400, "price_per_hour": "12.00", "startup_seconds": 20})
    result = asked(content, card(), dear)
    front = [result.quotes[at] for at in result.front]
    assert [one.cost.likely for one in front] == sorted(one.cost.likely for one in front)
    assert [one.seconds.likely for one in front] == sorted((one.seconds.likely for one in front), reverse=True)
    assert result.pick is not None and result.pick.index in result.front
    hurry = asked(content, card(), dear, wishes=Wishes(most_seconds=400))
    assert hurry.pick is not None
    taken = hurry.quotes[hurry.pick.index]
    in_time = [one for one in hurry.quotes if one.eligible and one.seconds.high <= 400]
    assert taken in in_time and taken.cost.likely == min(one.cost.likely for one in in_time)
    poor = asked(content, card(), dear, wishes=Wishes(most_money=Decimal("2.00")))
    assert poor.pick is not None
    taken = poor.quotes[poor.pick.index]
    within = [one for one in poor.quotes if one.eligible and one.cost.high <= 2]
    assert taken in within and taken.seconds.likely == min(one.seconds.likely for one in within)


def test_e9_what_nothing_keeps_is_told_with_what_would(content: PackingList) -> None:
    nothing = asked(content, wishes=Wishes(most_seconds=200))
    assert nothing.pick is None and nothing.front
    late, change = nothing.nearest
    assert "later" in late.change and not late.fits and change.fits
    assert change.seconds.high <= 200
    poor = asked(content, wishes=Wishes(most_money=Decimal("0.01")))
    assert poor.pick is None and "more" in poor.nearest[0].change


def test_e9_a_job_is_split_between_farms_where_that_is_sooner(content: PackingList) -> None:
    result = asked(content, card(), card("brisk", {"price_per_hour": "4.00"}), split=True)
    split = next(quote for quote in result.quotes if quote.shares)
    assert sum(one.frames for one in split.shares) == 48 and {one.farm for one in split.shares} == {"harbour", "brisk"}
    alone = min(quote.seconds.likely for quote in result.quotes if not quote.shares)
    assert split.seconds.likely < alone and split.cost.likely == sum(one.cost.likely for one in split.shares)


def test_e8_what_cannot_be_taken_says_why(content: PackingList) -> None:
    small = asked(content, card(machine={"memory_gb": 0.5}))
    assert small.pick is None and "GiB" in small.quotes[0].reasons[0]
    practice = asked(content, card(practice=False), timings=alike(basis="practice"))
    assert practice.pick is None and "practice renderer" in practice.quotes[0].reasons[0]
    refused = asked(content, refused={"harbour": ("the host is too old",)})
    assert refused.pick is None and refused.quotes[0].reasons == ("the host is too old",)
    few = asked(content, card(limits={"nodes": 3}), wishes=Wishes(nodes=5))
    assert "3 machines at a time" in few.quotes[0].reasons[0]
    slow = asked(content, card(limits={"minutes_per_frame": 0.1}))
    assert "a frame takes longer" in slow.quotes[0].reasons[0]


def test_e5_currencies_are_compared_by_dated_rates_and_never_mixed(content: PackingList) -> None:
    foreign = card("sound", {"price_per_hour": "3.60"}, currency="DKK")
    rates = [ExchangeRate(of="EUR", to="DKK", rate=Decimal("7.5"), on=date(2026, 11, day)) for day in (1, 2)]
    old = ExchangeRate(of="EUR", to="DKK", rate=Decimal(1), on=date(2020, 1, 1))
    result = asked(content, card(), foreign, exchange=Exchange.of([old, *rates]))
    quote = next(quote for quote in result.quotes if quote.farm == "sound")
    assert quote.cost.currency == "DKK" and quote.cost_own is not None and quote.cost_own.currency == "EUR"
    assert quote.cost_own.likely == pytest.approx(quote.cost.likely / Decimal("7.5"), abs=Decimal("0.01"))
    unknown = asked(content, card(), foreign)
    assert all(unknown.quotes[at].farm == "harbour" for at in unknown.front) and "DKK" in " ".join(unknown.notes)
    with pytest.raises(Blocked, match="no rate of exchange"):
        asked(content, foreign, wishes=Wishes(currency="EUR"))


def test_e10_a_change_is_priced_at_once(content: PackingList) -> None:
    usual = by_nodes(asked(content), 1)
    measured = replace(alike(), frames=tuple(replace(one, width=320, height=180) for one in alike().frames))
    half = by_nodes(asked(content, timings=measured, change=parse_change("scale=50%")), 1)
    assert half.parts is not None and usual.parts is not None
    assert half.parts.rendering == pytest.approx(usual.parts.rendering / 4, rel=0.05)
    fewer = asked(content, change=parse_change("frames=1001-1010,speed=2"))
    assert fewer.frames == 10 and by_nodes(fewer, 1).seconds.likely == pytest.approx(100 + 10 * 15, rel=0.05)


def test_e11_batches_grow_with_loading_and_shrink_with_the_risk(content: PackingList) -> None:
    def batch(load: float, **machine: object) -> int:
        found = asked(content, card(machine=machine), timings=alike(load_seconds=load), wishes=Wishes(nodes=4))
        return max(found.quotes, key=lambda quote: quote.reclaimable).batch

    assert batch(0.0) == 1 < batch(600.0)


def test_e12_earlier_jobs_correct_the_next_estimate(content: PackingList) -> None:
    learned = Experience(factor=1.5, spread=0.05, jobs=3, again=0.0)
    result = asked(content, experience=lambda farm, machine: learned)
    one = by_nodes(result, 1)
    assert one.seconds.likely == pytest.approx(100 + 48 * 45, rel=0.05)
    assert one.correction == 1.5 and one.corrected_by == 3 and "corrected by earlier jobs" in " ".join(result.notes)


def test_e13_against_rendering_here(content: PackingList) -> None:
    result = asked(content, hour_here=(Decimal("0.50"), "EUR"))
    assert result.here.cost is not None
    # timings of a machine twice as fast as this one
    twice = asked(content, timings=alike(score=200.0))
    assert twice.here.seconds.likely == pytest.approx(2 * result.here.seconds.likely, rel=0.01)
    assert result.here.cost.likely == pytest.approx(Decimal(48 * 60) * Decimal("0.50") / 3600, abs=Decimal("0.02"))


def test_tiles_are_paid_with_their_margin_and_stitched(content: PackingList) -> None:
    whole = asked(content)
    tiled = tuple(request.model_copy(update={"tiles": (2, 2)}) for request in content.requests)
    split = asked(content, requests=tiled)
    assert by_nodes(split, 1).cost.likely > by_nodes(whole, 1).cost.likely
    parts = by_nodes(split, 8).parts
    assert parts is not None and parts.stitching > 0 and split.frames == 48


def test_e2_probe_measures_real_frames_and_keeps_them_apart_from_the_crate(crate: Path) -> None:
    before = {path.name for path in crate.iterdir()}
    result = probe(crate, ANY, ProbeWishes(count=2, scale=0.5))
    small = [one for one in result.frames if one.width == 160]
    full = [one for one in result.frames if one.width == 320]
    # one again at full quality: not all of a frame's time shrinks with its pixels
    assert len(small) == 2 and len(full) == 1 and full[0].frame in {one.frame for one in small}
    assert all(one.seconds > 0 and one.memory_bytes > 1e6 and one.bytes > 0 and one.why for one in result.frames)
    assert result.load_seconds > 0 and result.basis == "practice" and result.expected[0].frames == 48
    # the scene's own samples, which the request leaves to it
    assert {one.samples for one in result.frames} == {2} and not result.noise_target
    assert read_probe(crate, read_packing_list(crate)) == result
    assert {path.name for path in crate.iterdir()} == before
    # F9: they are kept, to compare the farm's frames with
    kept = read_test_frames(crate)
    assert {(one.frame, one.width) for one in kept} == {(one.frame, one.width) for one in result.frames}
    folder = probe_folder(crate)
    assert all((folder / path).is_file() for one in kept for path in one.files.values())


def test_e1_probe_goes_on_until_the_total_is_known_well_enough(crate: Path) -> None:
    quick = probe(crate, ANY, ProbeWishes(width=2.0))
    assert len(quick.frames) == 4
    narrow = probe(crate, ANY, ProbeWishes(width=0.001))
    # a quarter of the shot at most
    assert len(narrow.frames) == 12 and {one.why for one in narrow.frames} >= {"tells most about the total"}
    assert len({one.frame for one in narrow.frames}) == 12
    assert len(probe(crate, ANY, ProbeWishes(width=0.001, seconds=0.0)).frames) == 4


def test_e2_start_up_is_told_apart_from_loading_and_other_cameras_are_timed(crate: Path) -> None:
    content = read_json(crate / "packing-list.json", "packing list")
    cameras = (content["essentials"]["cameras"] * 4)[:4]
    content["requests"][0] |= {
        "frames": "1001-1008",
        "views": [{"name": f"view-{number}", "camera": path} for number, path in enumerate(cameras)],
    }
    write_json(crate / "packing-list.json", content)
    result = probe(crate, ANY, ProbeWishes(count=2))
    assert 0 < result.startup_seconds <= result.load_seconds
    assert set(result.views["main"]) <= {"view-1", "view-2", "view-3"} and len(result.views["main"]) == 3
    assert all(ratio > 0 for ratio in result.views["main"].values())


@pytest.mark.parametrize(
    ("command", "message"),
    [
        (["{python}", "-c", "print('out of licences'); raise SystemExit(3)"], "failed with code 3"),
        (["{python}", "-c", "pass"], "wrote nothing"),
        (["{python}", "-c", "import os; os.kill(os.getpid(), 9)"], "memory of this machine ran out"),
        (["no-such-renderer-anywhere"], "cannot start"),
        (["{python}", "{sceene}"], "placeholder"),
    ],
)
def test_a_render_command_that_fails_is_told_plainly(command: list[str], message: str, crate: Path) -> None:
    content = read_json(crate / "packing-list.json", "packing list")
    content["render"] |= {"command": command}
    write_json(crate / "packing-list.json", content)
    with pytest.raises(TidyCrateError, match=message) as caught:
        probe(crate, ANY, ProbeWishes(count=1))
    if "licences" in " ".join(command):
        assert caught.value.said == ("out of licences",) and Path(caught.value.log or "").is_file()


def test_e1_where_memory_may_run_out_test_frames_stand_close(crate: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    numbers = range(1001, 1049)
    memory = {1006: 70, 1018: 90, 1030: 60, 1042: 60}
    # 30 more than at a test frame may be taken beside it; what is longest comes first
    assert beside_much_memory(numbers, memory, 110) == (1012, 1024)
    assert beside_much_memory(numbers, memory, 90) == (1012, 1024, 1036, 1046, 1003)
    assert beside_much_memory(numbers, memory, 121) == ()
    # a stretch of four frames hides no plateau, and one test frame tells of no rise
    assert beside_much_memory(range(1001, 1010), {1005: 90}, 90) == ()
    assert beside_much_memory(range(1001, 1011), {1005: 90}, 90) == (1008,)
    assert beside_much_memory(range(1001, 1011), {1005: 90}, 91) == ()
    wishes = ProbeWishes(width=2)
    usual = probe(crate, ANY, wishes)
    assert not usual.warning and len(usual.frames) == 4
    # as if this machine had hardly more memory than the scene takes
    small = replace_memory(this_machine(), max(one.memory_bytes for one in usual.frames))
    monkeypatch.setattr("tidy_crate.core.estimate.probe.this_machine", lambda: small)
    close = probe(crate, ANY, wishes)
    assert "memory" in close.warning and len(close.frames) > len(usual.frames)
    assert {one.why for one in close.frames} == {one.why for one in usual.frames} | {"memory may run out here"}


def replace_memory(machine: ProbeMachine, size: int) -> ProbeMachine:
    return machine.model_copy(update={"memory_bytes": size})


def test_e2_a_machine_that_was_busy_is_told_from_one_that_was_not(content: PackingList) -> None:
    """Times of a busy machine are too long: the estimate says so too, which is another process."""
    idle = ProbeResult(
        crate="c", frames=(), load_seconds=1, cores_used=1, others=0.02, basis="measured", renderer="brush 1.0"
    )  # fmt: skip
    assert not idle.warning
    busy = idle.model_copy(update={"others": 0.62})
    assert "took 62% of this machine" in busy.warning
    # processor time is told by the renderer itself
    assert not busy.model_copy(update={"basis": "practice"}).warning
    notes = asked(content, timings=alike(warning=busy.warning)).notes
    assert busy.warning in notes


def test_e2_what_other_programs_take_is_told_from_what_the_renderer_takes(
    crate: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    # all that this machine does counts, this process too
    before, until = machine_seconds(), time.process_time() + 0.3
    while time.process_time() < until:
        pass
    assert machine_seconds() - before >= 0.25
    # as if nothing ran but this process and the renderer; and as if others took eight tenths of all cores
    monkeypatch.setattr("tidy_crate.core.estimate.probe.machine_seconds", time.process_time)
    assert probe(crate, ANY, ProbeWishes(count=1)).others == 0
    cores = this_machine().cores
    busy = lambda: time.process_time() + (0.8 * cores + 1) * time.monotonic()  # noqa: E731
    monkeypatch.setattr("tidy_crate.core.estimate.probe.machine_seconds", busy)
    assert probe(crate, ANY, ProbeWishes(count=1)).others > 0.5


def test_timings_of_an_earlier_version_are_still_read(crate: Path) -> None:
    content = read_packing_list(crate)
    with pytest.raises(UnreadableInput, match="no timings"):
        read_probe(crate, content)
    found = probe(crate, ANY, ProbeWishes(count=1)).model_dump(mode="json")
    for name in ("expected", "noise_target", "positions"):
        found.pop(name)
    (probe_folder(crate) / "timings.json").write_text(json.dumps(found | {"probe": 2}))
    assert read_probe(crate, content).frames[0].seconds > 0


def test_a_card_with_a_misspelt_key_names_it_and_the_right_one(tmp_path: Path) -> None:
    path = tmp_path / "x.farm.toml"
    path.write_text('name = "x"\ncurency = "EUR"\n')
    with pytest.raises(UnreadableInput) as caught:
        read_card(path)
    assert "curency" in caught.value.what and "currency" in (caught.value.remedy or "")
    with pytest.raises(WrongUsage):
        card().machine_named("gpu")


# by name: changes of the machine of a card, and seconds of loading
PRICED: dict[str, tuple[dict[str, object], dict[str, object], float]] = {
    "by the second": ({}, {}, 20.0),
    "by the hour": ({"billing_increment_seconds": 3600}, {}, 20.0),
    "ten minutes at least": ({"minimum_seconds": 600, "startup_seconds": 30}, {}, 60.0),
    "by the frame": ({"price_per_hour": None}, {"price": [{"per": "frame", "amount": "0.05"}]}, 10.0),
    "few are free": ({"usually_free": [2, 5, 12]}, {}, 20.0),
}


@pytest.mark.parametrize("few", [plan.FEW_TASKS, 0], ids=["few tasks", "many tasks"])
@pytest.mark.parametrize("name", PRICED)
def test_e8_machines_and_batch_are_chosen_as_well_as_by_trying_them_all(
    name: str, few: int, content: PackingList, monkeypatch: pytest.MonkeyPatch
) -> None:
    machine, rest, load = PRICED[name]
    machine = {key: value for key, value in (MACHINE | {"nodes": 12} | machine).items() if value is not None}
    one = FarmCard.model_validate(CARD | {"machine": [machine]} | rest)
    frames = tuple(FrameTiming("main", 1001 + 4 * at, 40.0 + 9 * (at % 4)) for at in range(12))
    question = Question(
        content, Timings(frames, load, "measured"), (one,), split=False,
        experience=lambda farm, machine: Experience(again=0.02),
    )  # fmt: skip
    seen: list[tuple[Offer, Way]] = []
    real = plan.quoted

    def told(offer: Offer, way: Way) -> Quote:
        seen.append((offer, way))
        return real(offer, way)

    monkeypatch.setattr(plan, "quoted", told)
    monkeypatch.setattr(plan, "FEW_TASKS", few)
    free = estimate(question).estimate
    offer, way = seen[0]
    # every number of machines with every size of batch
    every = [real(offer, replace(way, nodes=nodes, batch=batch)) for nodes in range(1, 13)
             for batch in range(1, -(-48 // nodes) + 1)]  # fmt: skip
    cheapest, fastest = min(quote.cost.high for quote in every), min(quote.seconds.high for quote in every)
    dearest, slowest = max(quote.cost.high for quote in every), max(quote.seconds.high for quote in every)
    regrets = []
    for share in (0.02, 0.1, 0.3, 0.6):
        seconds = fastest + share * (slowest - fastest)
        seen.clear()
        pick = estimate(replace(question, wishes=Wishes(most_seconds=seconds))).estimate
        best = min(quote.cost.likely for quote in every if quote.seconds.high <= seconds)
        assert pick.pick is not None and (few or len(seen) <= 64), share
        regrets.append(float(pick.quotes[pick.pick.index].cost.likely / best - 1))
        money = cheapest + Decimal(share) * (dearest - cheapest)
        pick = estimate(replace(question, wishes=Wishes(most_money=money))).estimate
        soonest = min(quote.seconds.likely for quote in every if quote.cost.high <= money)
        assert pick.pick is not None, share
        regrets.append(pick.quotes[pick.pick.index].seconds.likely / soonest - 1)
    assert float(np.median(regrets)) <= 0.02 and max(regrets) <= 0.05, regrets
    assert free.pick is not None
