"""Baking stands behind the format's interface: another package's format brings its own."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import pytest

from tidy_crate.core.asset.sequences import STANDARD, FrameTokens
from tidy_crate.core.bake.plan import plan_bake
from tidy_crate.core.bake.run import bake, in_order
from tidy_crate.core.bake.verify import verify_caches
from tidy_crate.core.context.scene import SceneContext, open_scene
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.progress import Progress, silent
from tidy_crate.core.scene.caches import read_records
from tidy_crate.core.scene.formats.baking import BakeOrder, CacheRange, Curve, Digests, Trial, WrittenCache
from tidy_crate.core.scene.formats.sheet import SceneSheet
from tidy_crate.core.scene.model import FrameRange, Simulation, SimulationState, Survey
from tidy_crate.core.scene.staging import StagingPlan
from tidy_crate.core.work.trust import Claim


@dataclass(frozen=True)
class ToyBaker:
    """Writes a line per frame."""

    def per_frame(self, survey: Survey) -> int:
        return 2

    def bake(self, order: BakeOrder, progress: Progress) -> WrittenCache:
        target = order.folder / f"{order.simulation.name}.toy"
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text("\n".join(map(str, order.wanted.times)))
        return WrittenCache(target, (), (order.simulation.name,), ("half of it",))

    def trials(
        self,
        scene: Path,
        plan: StagingPlan,
        wanted: Mapping[str, CacheRange],
        survey_cache: Path | None,
        tokens: FrameTokens,
    ) -> dict[str, Trial]:
        return {name: Trial(float(len(cached.times)), 100) for name, cached in wanted.items()}

    def bad_values(self, file: Path) -> Iterator[str]:
        yield from (f"{line} is not a number" for line in file.read_text().splitlines() if line == "nan")

    def digests(self, scene: Path, plan: StagingPlan, frames: Sequence[int], tokens: FrameTokens) -> Digests:
        return {}

    def curves(self, simulation: Simulation) -> list[Curve]:
        return []


class ToyFormat(SceneSheet):
    """A format whose scenes are two simulations that depend on each other in turn."""

    name = "toy"

    def claims(self, scene: Path) -> tuple[Claim, ...]:
        return ()

    def __init__(self, cycle: bool = False) -> None:
        self._cycle = cycle

    def read(self, scene, plan=None, request=None, maps=(), survey_cache=None, tokens=STANDARD, questions=None):  # type: ignore[no-untyped-def]
        needs = {"sail": ("wind",), "wind": ("sail",) if self._cycle else ()}
        frames = FrameRange(start=1, end=4, fps=24)
        simulations = tuple(
            Simulation(name=name, kind="toy", state=_state(plan, name), start=1, depends_on=other, fingerprint=name)
            for name, other in needs.items()
        )
        return Survey.model_construct(scene=scene, frames=frames, simulations=simulations, canonical={})

    def baker(self) -> ToyBaker:
        return ToyBaker()


def _state(plan: StagingPlan | None, name: str) -> SimulationState:
    return SimulationState.CACHED if plan and plan.cache(name) else SimulationState.LIVE


@pytest.fixture
def toy(tmp_path: Path) -> SceneContext:
    scene = tmp_path / "s.usda"
    scene.write_text("#usda 1.0\n")
    return replace(open_scene(scene), format=ToyFormat())


def test_another_formats_simulations_are_planned_baked_recorded_and_verified(toy: SceneContext) -> None:
    planned = plan_bake(toy)
    assert [(one.simulation, one.samples, one.seconds) for one in planned] == [("wind", 11, 11.0), ("sail", 11, 11.0)]
    result = bake(toy)
    assert [one.simulation for one in result.baked] == ["wind", "sail"]
    assert result.baked[0].unbaked == ("half of it",)
    (sail, wind) = read_records(toy.tidy / "caches")
    assert (wind.first, wind.last, wind.per_frame, wind.prims) == (0, 5, 2, ("wind",)) and sail.layer == "sail.toy"
    again = toy.with_caches_of_now()
    assert bake(again).up_to_date == ("wind", "sail")
    assert not any(one.troubles for one in verify_caches(again) if "no frames" not in str(one.troubles))
    (toy.tidy / "caches" / "wind.toy").write_text("nan")
    troubles = {one.simulation: one.troubles for one in verify_caches(again)}
    assert "nan is not a number" in troubles["wind"] and "wind.toy is gone or not as it was written" in troubles["wind"]


def test_only_what_is_named_and_what_it_depends_on_is_baked(toy: SceneContext) -> None:
    assert [one.simulation for one in bake(toy, ["wind"]).baked] == ["wind"]
    assert [one.simulation for one in bake(toy, ["sail"], again=True).baked] == ["wind", "sail"]
    with pytest.raises(WrongUsage, match="no simulation has that name"):
        bake(toy, ["mast"])
    with pytest.raises(WrongUsage, match=r"cycle: (sail -> wind -> sail|wind -> sail -> wind)"):
        bake(replace(toy, format=ToyFormat(cycle=True)))


def test_a_format_without_a_baker_says_so(toy: SceneContext) -> None:
    class Without(ToyFormat):
        def baker(self) -> None:  # type: ignore[override]
            return None

    with pytest.raises(WrongUsage, match="cannot be baked here"):
        bake(replace(toy, format=Without()), progress=silent)


def test_a_cycle_is_named_in_the_direction_of_its_dependencies() -> None:
    assert in_order({"a": ["b"], "b": ["c"], "c": []}) == ["c", "b", "a"]
    with pytest.raises(WrongUsage) as caught:
        in_order({"a": ["b"], "b": ["c"], "c": ["a"], "d": []})
    assert caught.value.where in ("a -> b -> c -> a", "b -> c -> a -> b", "c -> a -> b -> c")
