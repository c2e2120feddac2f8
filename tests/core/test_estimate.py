"""Test frames, timing model, the simulated farm and quotes."""

from __future__ import annotations

from decimal import Decimal
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import ANY
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.crate.packing import read_packing_list
from tidy_crate.core.errors import TidyCrateError, UnreadableInput, WrongUsage
from tidy_crate.core.estimate.farm_run import simulate
from tidy_crate.core.estimate.model import Wishes
from tidy_crate.core.estimate.probe import ProbeFrame, ProbeResult, choose_frames, probe, read_probe
from tidy_crate.core.estimate.quote import estimate
from tidy_crate.core.estimate.timing import frame_times
from tidy_crate.core.farm.card import FarmCard, Machine, read_card
from tidy_crate.core.files import read_json, write_json

CARD = {
    "name": "harbour", "url": "https://farm.invalid", "currency": "EUR", "rates_from": "2026-11-01", "practice": True,
    "machine": [
        {"name": "m", "nodes": 8, "score": 200, "memory_gb": 16, "price_per_hour": 3.6, "startup_seconds": 100}
    ],
}  # fmt: skip


def measured(seconds: dict[int, float], basis: str = "measured", load: float = 0.0) -> ProbeResult:
    frames = tuple(
        ProbeFrame(
            request="main", frame=frame, seconds=value, memory_bytes=2**30, width=320, height=180, samples=None,
            basis=basis,
        )
        for frame, value in seconds.items()
    )  # fmt: skip
    return ProbeResult(crate="c", frames=frames, load_seconds=load, cores_used=1, basis=basis, renderer="r")


def machine(**changes: object) -> Machine:
    return Machine.model_validate({**CARD["machine"][0], "startup_seconds": 0, "score": 100, **changes})  # type: ignore[index]


@given(st.integers(1, 500), st.integers(1, 20))
def test_e1_test_frames_are_spread_and_belong_to_the_range(length: int, count: int) -> None:
    numbers = tuple(range(1001, 1001 + length))
    chosen = choose_frames(numbers, count)
    assert len(set(chosen)) == min(count, length) and set(chosen) <= set(numbers)
    assert chosen != (1001,) or length <= 1


@given(st.lists(st.floats(0.1, 100), min_size=1, max_size=60), st.integers(1, 8), st.integers(1, 10))
def test_a_simulated_farm_keeps_the_books(frames: list[float], nodes: int, batch: int) -> None:
    run = simulate(np.array(frames), 2.0, batch, nodes, machine())
    work = sum(frames) + 2.0 * -(-len(frames) // batch)
    assert run.node_seconds == pytest.approx(work)
    assert work / nodes - 1e-6 <= run.seconds <= work + 1e-6


def test_one_node_pays_start_up_loading_and_whole_increments() -> None:
    run = simulate(np.full(10, 6.0), 5.0, 5, 1, machine(startup_seconds=30, billing_increment_seconds=60))
    assert run.seconds == 30 + 2 * 5 + 60
    assert run.cost == Decimal(120) * Decimal("3.6") / 3600


@pytest.mark.parametrize(("least", "billed"), [(0, 120), (119, 120), (120, 120), (121, 121), (600, 600)])
def test_a_node_that_was_hardly_used_pays_the_least_that_is_billed(least: int, billed: int) -> None:
    # 10 frames of 11 s are 110 s, which is two whole minutes
    run = simulate(np.full(10, 11.0), 0.0, 10, 1, machine(billing_increment_seconds=60, minimum_seconds=least))
    assert run.cost == Decimal(billed) * Decimal("3.6") / 3600 and run.node_seconds == 110
    # what is billed at least is billed for each of them
    run = simulate(np.full(10, 11.0), 0.0, 5, 2, machine(billing_increment_seconds=60, minimum_seconds=least))
    assert run.cost == 2 * Decimal(max(60, least)) * Decimal("3.6") / 3600


def test_frames_between_test_frames_are_interpolated_and_scaled(packed: tuple[SceneContext, Path]) -> None:
    request = read_packing_list(packed[1]).requests[0]
    times = frame_times(request.model_copy(update={"width": 640}), measured({1001: 1.0, 1048: 3.0}))
    assert times.likely[0] == pytest.approx(2.0) and times.likely[-1] == pytest.approx(6.0)
    assert 0.08 <= times.spread <= 0.9


def test_e7_quotes_are_ranges_in_order_and_a_faster_machine_is_faster(packed: tuple[SceneContext, Path]) -> None:
    content, card = read_packing_list(packed[1]), FarmCard.model_validate(CARD)
    result = estimate(content, measured({1010: 50.0, 1020: 60.0, 1040: 55.0}), [card], Wishes())
    assert [quote.nodes for quote in result.quotes] == [1, 2, 4, 8]
    for quote in result.quotes:
        assert quote.cost.low <= quote.cost.likely <= quote.cost.high
        assert quote.seconds.low <= quote.seconds.likely <= quote.seconds.high
    assert result.pick == 0
    # a score of 200 halves the 55 seconds a frame takes here
    one = result.quotes[0]
    assert one.parts.rendering == pytest.approx(48 * 55 / 2, rel=0.05)
    assert one.cost.likely == pytest.approx(Decimal((one.parts.rendering + 100) * 3.6 / 3600), abs=Decimal("0.01"))


def test_timings_of_the_practice_renderer_are_refused_for_a_real_farm(packed: tuple[SceneContext, Path]) -> None:
    content = read_packing_list(packed[1])
    card = FarmCard.model_validate(CARD | {"practice": False})
    timings = measured({1010: 1.0}, basis="practice")
    refused = estimate(content, timings, [card], Wishes())
    assert refused.pick is None and "practice renderer" in refused.quotes[0].reasons[0]
    assert estimate(content, timings, [card], Wishes(accept_practice=True)).pick is not None


def test_e8_a_machine_with_too_little_memory_cannot_be_taken(packed: tuple[SceneContext, Path]) -> None:
    small = [{**CARD["machine"][0], "memory_gb": 0.5}]  # type: ignore[index]
    card = FarmCard.model_validate(CARD | {"machine": small})
    result = estimate(read_packing_list(packed[1]), measured({1010: 1.0}), [card], Wishes())
    assert result.pick is None and "GiB" in result.quotes[0].reasons[0]


def test_e2_probe_measures_real_frames_and_keeps_them_apart_from_the_crate(crate: Path) -> None:
    before = {path.name for path in crate.iterdir()}
    result = probe(crate, ANY, count=2, scale=0.5)
    assert [one.frame for one in result.frames] == [1013, 1037]
    assert all(one.seconds > 0 and one.memory_bytes > 1e6 and one.width == 160 for one in result.frames)
    assert result.load_seconds > 0 and result.basis == "practice"
    assert read_probe(crate, read_packing_list(crate)) == result
    assert {path.name for path in crate.iterdir()} == before


@pytest.mark.parametrize(
    ("command", "message"),
    [
        (["{python}", "-c", "raise SystemExit(3)"], "failed with code 3"),
        (["{python}", "-c", "pass"], "wrote nothing"),
        (["no-such-renderer-anywhere"], "cannot start"),
        (["{python}", "{sceene}"], "placeholder"),
    ],
)
def test_a_render_command_that_fails_is_told_plainly(command: list[str], message: str, crate: Path) -> None:
    content = read_json(crate / "packing-list.json", "packing list")
    content["render"] |= {"command": command}
    write_json(crate / "packing-list.json", content)
    with pytest.raises(TidyCrateError, match=message):
        probe(crate, ANY, count=1)


def test_a_card_with_a_misspelt_key_names_it_and_the_right_one(tmp_path: Path) -> None:
    path = tmp_path / "x.farm.toml"
    path.write_text('name = "x"\ncurency = "EUR"\n')
    with pytest.raises(UnreadableInput) as caught:
        read_card(path)
    assert "curency" in caught.value.what and "currency" in (caught.value.remedy or "")
    with pytest.raises(WrongUsage):
        FarmCard.model_validate(CARD).machine_named("gpu")
