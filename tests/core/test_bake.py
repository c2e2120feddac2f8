"""Springs, baking and the order proof."""

from __future__ import annotations

import math

import numpy as np
import pytest

from conftest import make_ready, tree
from tidy_crate.core.bake.proof import prove_order
from tidy_crate.core.bake.run import bake
from tidy_crate.core.context.decisions import DecisionsFile
from tidy_crate.core.context.scene import SceneContext, open_scene
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.solve.spring import SpringState, advance, at_rest
from tidy_crate.practice.demo.scene import DemoScene


def free_swing(frequency: float, zeta: float, t: float) -> float:
    """Closed form of x'' + 2 z w x' + w^2 x = 0 with x(0) = 1, x'(0) = 0."""
    w = 2 * math.pi * frequency
    if zeta < 1:
        d = w * math.sqrt(1 - zeta**2)
        return math.exp(-zeta * w * t) * (math.cos(d * t) + zeta * w / d * math.sin(d * t))
    if zeta == 1:
        return math.exp(-w * t) * (1 + w * t)
    a, b = w * (-zeta + math.sqrt(zeta**2 - 1)), w * (-zeta - math.sqrt(zeta**2 - 1))
    return (b * math.exp(a * t) - a * math.exp(b * t)) / (b - a)


@pytest.mark.parametrize("rate", [12, 25, 60])
@pytest.mark.parametrize("zeta", [0.0, 0.3, 1.0, 2.5])
def test_a_free_spring_follows_its_closed_form_at_every_frame_rate(rate: int, zeta: float) -> None:
    goal = np.zeros(1)
    state = SpringState(np.ones(1), np.zeros(1))
    for frame in range(1, 3 * rate + 1):
        state = advance(state, goal, goal, 1 / rate, 0.7, zeta)
        assert state.position[0] == pytest.approx(free_swing(0.7, zeta, frame / rate), abs=1e-10)


def test_the_step_does_not_matter_when_the_target_moves_evenly() -> None:
    def end(steps: int) -> np.ndarray:
        state, way = at_rest(np.zeros(3)), np.array([3.0, -1.0, 0.5])
        for step in range(steps):
            state = advance(state, way * step / steps, way * (step + 1) / steps, 1.0 / steps, 1.3, 0.2)
        return state.position

    assert np.allclose(end(1), end(240), atol=1e-10)


def test_a_stiff_overdamped_spring_does_not_overflow() -> None:
    state = advance(SpringState(np.ones(1), np.zeros(1)), np.zeros(1), np.zeros(1), 100.0, 50.0, 40.0)
    assert np.isfinite(state.position).all() and abs(state.position[0]) < 1


@pytest.mark.parametrize("values", [(1.0, 0.0, 0.5), (0.0, 1.0, 0.5), (1.0, 1.0, -0.1)])
def test_a_spring_that_makes_no_sense_is_refused(values: tuple[float, float, float]) -> None:
    with pytest.raises(ValueError, match="spring"):
        advance(at_rest(np.zeros(1)), np.zeros(1), np.zeros(1), *values)


def test_b10_the_proof_fails_unbaked_names_the_camera_and_holds_baked(demo: DemoScene, context: SceneContext) -> None:
    # twelve frames show it as well as forty-eight
    demo.scene.write_text(demo.scene.read_text().replace("endTimeCode = 1048", "endTimeCode = 1012"))
    before = prove_order(open_scene(demo.scene))
    assert not before.holds
    everything = {"/Quay/Camera", "/Quay/Drizzle", "/Quay/Physics", *(f"/Quay/Lantern{n}/Shade" for n in range(5))}
    assert set(before.live) == everything
    assert {one.simulation for one in before.differs} == everything
    after = prove_order(make_ready(demo), batch=5)
    assert after.holds and not after.live


def test_b8_a_second_bake_does_nothing_and_gives_the_same_bytes_when_forced(context: SceneContext) -> None:
    first = bake(context, ["/Quay/Camera"])
    assert [one.simulation for one in first.baked] == ["/Quay/Camera"]
    caches = tree(context.tidy / "caches")
    again = open_scene(context.scene)
    assert bake(again, ["/Quay/Camera"]).up_to_date == ("/Quay/Camera",)
    assert [one.simulation for one in bake(again, ["/Quay/Camera"], again=True).baked] == ["/Quay/Camera"]
    assert tree(context.tidy / "caches") == caches


def test_b7_a_damaged_cache_is_baked_again(context: SceneContext) -> None:
    cache = bake(context, ["/Quay/Camera"]).baked[0].layer
    whole = cache.read_bytes()
    cache.write_bytes(whole.replace(b"1010:", b"1010.5:"))
    assert bake(open_scene(context.scene), ["/Quay/Camera"]).baked
    assert cache.read_bytes() == whole


def test_b1_bake_by_a_name_that_is_not_there_is_refused(context: SceneContext) -> None:
    with pytest.raises(WrongUsage, match="no simulation has that name"):
        bake(context, ["/Quay/Nobody"])


def test_r1_baking_and_deciding_leave_the_scene_as_it_was(demo: DemoScene) -> None:
    def sources() -> dict[str, bytes]:
        return {name: data for name, data in tree(demo.project).items() if ".tidy/" not in name}

    before = sources()
    make_ready(demo)
    assert sources() == before


def test_r13_decisions_keep_comments_and_hold_for_the_next_version(demo: DemoScene) -> None:
    file = DecisionsFile(demo.scene)
    file.add("relink", [{"asset": "1", "authored": "a.png", "to": "b.png"}])
    text = file.path.read_text().replace('asset = "1"', '# ask Mira about this one\nasset = "1"')
    file.path.write_text(text)
    file.set(("output", "Matte"), {"path": "m.####.exr"})
    file.add("relink", [{"asset": "1", "authored": "a.png", "to": "b.png"}])
    assert "# ask Mira about this one" in file.path.read_text()
    assert len(file.read().relink) == 1
    newer = DecisionsFile(demo.scene.with_name("lantern_quay_v002.usda"))
    assert newer.path == file.path
    file.path.write_text(file.path.read_text() + '\n[[version.v002.waive]]\ncode = "x"\nbecause = "y"\n')
    assert [len(one.read().waive) for one in (file, newer)] == [0, 1]
