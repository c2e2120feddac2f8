"""Rigid bodies: laws of motion, the traps of collision shapes, units, joints, and what is not solved."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest
from pxr import Usd, UsdGeom

from conftest import Run
from tidy_crate.core.bake.proof import prove_order
from tidy_crate.core.bake.run import bake
from tidy_crate.core.context.scene import open_scene
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.scene.formats.usd.simulation.registry import find_all
from tidy_crate.core.scene.formats.usd.simulation.running import Running
from tidy_crate.core.solve.bodies import Body, Shape, Surface, World
from tidy_crate.core.solve.rigid import RigidRun
from tidy_crate.core.solve.rigid_model import damping_for

UNTURNED = np.array([1.0, 0.0, 0.0, 0.0])
EARTH = np.array([0.0, 0.0, -9.81])


def ball(name: str = "b", height: float = 2.0, surface: Surface = Surface(), **more: object) -> Body:
    shape = Shape("sphere", (0.1,), np.zeros(3), UNTURNED, surface, 1000.0, mass=more.pop("mass", None))
    position = np.array(more.pop("position", (0.0, 0.0, height)))
    return Body(name, position, UNTURNED, (shape,), **more)  # type: ignore[arg-type]


def floor(surface: Surface = Surface()) -> Shape:
    return Shape("plane", (), np.zeros(3), UNTURNED, surface, 1000.0)


@pytest.mark.parametrize("rate", [12, 25, 60])
def test_free_fall_is_right_to_a_tenth_of_a_millimetre_after_a_second(rate: int) -> None:
    run = RigidRun(World(EARTH, (ball(height=50.0),)), 0.25 / rate)
    for _ in range(4 * rate):
        run.advance({}, {})
    assert run.pose("b")[0][2] == pytest.approx(50 - 9.81 / 2, abs=1e-4)


@pytest.mark.parametrize("restitution", [0.0, 0.25, 0.5, 0.8])
def test_a_bounce_gives_back_the_square_of_its_restitution_in_height(restitution: float) -> None:
    surface = Surface(0.5, restitution)
    run = RigidRun(World(EARTH, (ball(height=1.1, surface=surface),), (floor(surface),)), 0.01)
    heights = []
    for _ in range(120):
        run.advance({}, {})
        heights.append(run.pose("b")[0][2] - 0.1)
    touch = int(np.argmin(heights[:55]))
    assert max(heights[touch:]) == pytest.approx(restitution**2, abs=0.02)


@pytest.mark.parametrize("restitution", [0.3, 0.5, 0.82, 0.95])
def test_bounces_are_neither_low_nor_high_on_average(restitution: float) -> None:
    """Where within a step a body touches changes one bounce by a percent or two; over many that cancels out."""
    surface, found = Surface(0.5, restitution), []
    for height in np.linspace(1.0, 1.2, 9):
        run = RigidRun(World(EARTH, (ball(height=height + 0.1, surface=surface),), (floor(surface),)), 0.01)
        heights = [run.advance({}, {}) or run.pose("b")[0][2] - 0.1 for _ in range(110)]
        found.append(max(heights[int(np.argmin(heights[:55])) :]) / height)
    assert float(np.mean(found)) == pytest.approx(restitution**2, abs=0.008)


def test_two_surfaces_meet_with_the_mean_of_what_they_say() -> None:
    run = RigidRun(World(EARTH, (ball(height=1.1, surface=Surface(0.5, 1.0)),), (floor(Surface(0.5, 0.0)),)), 0.01)
    heights = [run.advance({}, {}) or run.pose("b")[0][2] - 0.1 for _ in range(120)]
    touch = int(np.argmin(heights[:55]))
    assert max(heights[touch:]) == pytest.approx(0.25, abs=0.02)


def test_energy_does_not_grow_in_elastic_bounces_and_damping_is_zero_for_them() -> None:
    assert damping_for(1.0) == 0.0 and damping_for(0.3) > damping_for(0.6) > 0
    surface = Surface(0.0, 1.0)
    run = RigidRun(World(EARTH, (ball(height=1.1, surface=surface),), (floor(surface),)), 0.01)
    first = run.energy()
    found = [run.advance({}, {}) or run.energy() for _ in range(500)]
    assert max(found) <= first * 1.005


def test_momentum_is_kept_in_a_collision() -> None:
    bodies = (
        ball("a", position=(0.0, 0.0, 0.0), mass=1.0, velocity=np.array([2.0, 0.3, 0.0])),
        ball("b", position=(1.0, 0.05, 0.0), mass=3.0, velocity=np.array([-1.0, 0.0, 0.0])),
    )
    run = RigidRun(World(np.zeros(3), bodies), 0.01)
    before = run.momentum()
    assert before == pytest.approx([-1.0, 0.3, 0.0])
    for _ in range(80):
        run.advance({}, {})
    assert run.momentum() == pytest.approx(before, abs=1e-6)
    assert run.pose("a")[0][0] < 0.6  # stopped, and pushed back


SCENE = """#usda 1.0
(
    defaultPrim = "W"
    metersPerUnit = {unit}
    kilogramsPerUnit = {weight}
    upAxis = "{up}"
    startTimeCode = 1
    endTimeCode = 51
    timeCodesPerSecond = 25
)
def PhysicsScene "Physics"
{{
    {physics}
}}
def Xform "W"
{{
{body}
}}
"""
BODY = '( prepend apiSchemas = ["PhysicsRigidBodyAPI", "PhysicsCollisionAPI", "PhysicsMassAPI"] )'
STILL = '( prepend apiSchemas = ["PhysicsCollisionAPI", "PhysicsMeshCollisionAPI"] )'


def position(x: float, y: float, z: float) -> str:
    order = 'uniform token[] xformOpOrder = ["xformOp:translate"]'
    return f"double3 xformOp:translate = ({x}, {y}, {z})\n{order}\n"


def ground(axis: str = "Z") -> str:
    return f'def Plane "Ground" {STILL}\n{{\nuniform token axis = "{axis}"\n}}\n'


def stage_of(body: str, unit: float = 1.0, up: str = "Z", physics: str = "", weight: float = 1.0) -> Usd.Stage:
    stage = Usd.Stage.CreateInMemory()
    text = SCENE.format(body=body, unit=unit, up=up, physics=physics, weight=weight)
    assert stage.GetRootLayer().ImportFromString(text)
    return stage


def at_the_end(stage: Usd.Stage, prim: str, end: float = 51.0) -> np.ndarray:
    """Return the position of a body at a frame, in the world."""
    (simulation,) = find_all(stage)
    running = Running(stage, simulation, 1.0)
    running.go_to(end)
    matrix = next(np.array(value.matrix) for value in running.values() if value.prim == prim)  # type: ignore[union-attr]
    parent = np.array(UsdGeom.XformCache(end).GetParentToWorldTransform(stage.GetPrimAtPath(prim)))
    return np.asarray((matrix @ parent)[3, :3])


@pytest.mark.parametrize(("unit", "up"), [(1.0, "Z"), (0.01, "Z"), (0.01, "Y")])
def test_units_and_up_axis_are_honoured(unit: float, up: str) -> None:
    height = 30 / unit
    spot = position(0, 0, height) if up == "Z" else position(0, height, 0)
    stage = stage_of(f'def Sphere "B" {BODY}\n{{\ndouble radius = {0.2 / unit}\n{spot}}}\n', unit, up)
    fallen = at_the_end(stage, "/W/B", 26.0)[1 if up == "Y" else 2] * unit
    assert fallen == pytest.approx(30 - 9.81 / 2, abs=1e-3)


def test_gravity_of_the_scene_and_velocities_in_degrees_are_honoured() -> None:
    body = (
        f'def Cube "B" {BODY}\n{{\ndouble size = 0.2\nvector3f physics:velocity = (2, 0, 0)\n'
        f"vector3f physics:angularVelocity = (0, 0, 90)\n{position(0, 0, 5)}}}\n"
    )
    stage = stage_of(body, physics="vector3f physics:gravityDirection = (0, 1, 0)\nfloat physics:gravityMagnitude = 3")
    assert at_the_end(stage, "/W/B", 26.0) == pytest.approx([2.0, 1.5, 5.0], abs=1e-3)
    (simulation,) = find_all(stage)
    running = Running(stage, simulation, 1.0)
    running.go_to(26.0)
    assert np.array(running.values()[0].matrix)[0, :2] == pytest.approx([0.0, 1.0], abs=1e-3)  # type: ignore[union-attr]


@pytest.mark.parametrize(
    ("shape", "rest"),
    [
        ('def Cube "B" {b} {{ double size = 0.4\n{p} }}', 0.2),
        ('def Sphere "B" {b} {{ double radius = 0.3\n{p} }}', 0.3),
        ('def Capsule "B" {b} {{ double radius = 0.1\n double height = 0.5\n uniform token axis = "X"\n{p} }}', 0.1),
        ('def Cylinder "B" {b} {{ double radius = 0.2\n double height = 0.5\n uniform token axis = "Z"\n{p} }}', 0.25),
        ('def Cone "B" {b} {{ double radius = 0.3\n double height = 0.4\n uniform token axis = "Z"\n{p} }}', 0.2),
    ],
)
def test_every_shape_comes_to_rest_on_the_ground_and_stays(shape: str, rest: float) -> None:
    body = ground() + shape.format(b=BODY, p=position(0, 0, rest + 0.05))
    stage = stage_of(body)
    first, later = at_the_end(stage, "/W/B", 40.0), at_the_end(stage, "/W/B", 51.0)
    assert later[2] == pytest.approx(rest, abs=2e-3)
    assert np.abs(later - first).max() < 1e-3


def test_a_box_at_rest_stays_at_rest() -> None:
    stage = stage_of(ground() + f'def Cube "B" {BODY} {{ double size = 0.4\n{position(0.3, -0.2, 0.2)} }}')
    assert at_the_end(stage, "/W/B") == pytest.approx([0.3, -0.2, 0.2], abs=1e-4)


TROLLEY = """
def Cube "Trolley" ( prepend apiSchemas = ["PhysicsRigidBodyAPI", "PhysicsCollisionAPI"] )
{{
    double size = 1
    bool physics:kinematicEnabled = true
    double3 xformOp:translate.timeSamples = {{ {keys} }}
    double3 xformOp:scale = (1.2, 0.8, 0.1)
    uniform token[] xformOpOrder = ["xformOp:translate", "xformOp:scale"]
}}
"""


def test_a_box_rides_on_a_moving_trolley() -> None:
    # from rest to half a metre per second over half a second: friction of a half holds it
    ways = {
        frame: 0.5 * max(0.0, t - 0.25) if t > 0.5 else 0.5 * t * t
        for frame in range(1, 52)
        for t in [(frame - 1) / 25]
    }
    keys = ", ".join(f"{frame}: ({way}, 0, 0.2)" for frame, way in ways.items())
    body = TROLLEY.format(keys=keys) + f'def Cube "B" {BODY} {{ double size = 0.3\n{position(0, 0, 0.4)} }}'
    end = at_the_end(stage_of(body), "/W/B")
    assert end == pytest.approx([ways[51], 0, 0.4], abs=0.01)


def test_a_box_on_a_trolley_that_starts_too_fast_slides_as_far_as_friction_says() -> None:
    speed = 1.28
    keys = f"1: (0, 0, 0.2), 51: ({2 * speed}, 0, 0.2)"
    body = TROLLEY.format(keys=keys) + f'def Cube "B" {BODY} {{ double size = 0.3\n{position(0, 0, 0.4)} }}'
    behind = 2 * speed - at_the_end(stage_of(body), "/W/B")[0]
    assert behind == pytest.approx(speed**2 / (2 * 0.5 * 9.81), rel=0.03)


def quads(points: list[tuple[float, float, float]], faces: list[tuple[int, ...]], more: str = "") -> str:
    counts, indices = [len(face) for face in faces], [at for face in faces for at in face]
    return (
        f"point3f[] points = {points}\nint[] faceVertexCounts = {counts}\nint[] faceVertexIndices = {indices}\n{more}\n"
    )


CORNERS = [(x, y, z) for z in (0.0, 1.0) for y in (-1.0, 1.0) for x in (-1.0, 1.0)]
OPEN = [(0, 2, 3, 1), (0, 1, 5, 4), (2, 6, 7, 3), (0, 4, 6, 2), (1, 3, 7, 5)]


def test_an_open_box_stays_open_unless_the_scene_asks_for_its_hull() -> None:
    ball_above = f'def Sphere "B" {BODY} {{ double radius = 0.2\n{position(0, 0, 1.5)} }}'
    stays = stage_of(f'def Mesh "Bin" {STILL} {{\n{quads(CORNERS, OPEN)} }}\n' + ball_above)
    assert at_the_end(stays, "/W/B")[2] == pytest.approx(0.2 + 0.02, abs=5e-3)  # on the bin's floor, half a plate thick
    hull = 'uniform token physics:approximation = "convexHull"'
    closed = stage_of(f'def Mesh "Bin" {STILL} {{\n{quads(CORNERS, OPEN, hull)} }}\n' + ball_above)
    assert at_the_end(closed, "/W/B")[2] == pytest.approx(1.2, abs=5e-3)


def test_a_flat_mesh_is_a_thin_box_and_a_concave_face_keeps_its_notch() -> None:
    flat = quads([(-2, -2, 0), (2, -2, 0), (2, 2, 0), (-2, 2, 0)], [(0, 1, 2, 3)])
    falls = f'def Sphere "B" {BODY} {{ double radius = 0.2\n{position(0, 0, 1)} }}'
    assert 0.2 < at_the_end(stage_of(f'def Mesh "M" {STILL} {{\n{flat} }}\n' + falls), "/W/B")[2] < 0.26
    # a face like an L: nothing is there where its corner is cut out
    corner = [(-2, -2, 0), (2, -2, 0), (2, -1, 0), (-1, -1, 0), (-1, 2, 0), (-2, 2, 0)]
    notched = quads(corner, [(3, 4, 5, 0, 1, 2)])
    assert at_the_end(stage_of(f'def Mesh "M" {STILL} {{\n{notched} }}\n' + falls), "/W/B")[2] < -5


def hinge(kind: str, more: str, ends: str = "rel physics:body1 = </W/B>") -> str:
    frames = "point3f physics:localPos0 = (0, 0, 3)\npoint3f physics:localPos1 = (-0.5, 0, 0)"
    return f'def {kind} "J"\n{{\n{ends}\n{frames}\n{more}\n}}\n'


ARM = f'def Cube "B" {BODY} {{ double size = 0.2\nfloat physics:mass = 2\n{position(0.5, 0, 3)} }}\n'


def distance_from_pivot(stage: Usd.Stage, end: float) -> float:
    return float(np.linalg.norm(at_the_end(stage, "/W/B", end) - [0, 0, 3]))


def test_joints_hold_what_they_say() -> None:
    swings = stage_of(ARM + hinge("PhysicsRevoluteJoint", 'uniform token physics:axis = "Y"'))
    for end in (8.0, 20.0, 51.0):
        assert distance_from_pivot(swings, end) == pytest.approx(0.5, abs=1e-3)
    assert at_the_end(swings, "/W/B", 8.0)[2] < 2.9
    limited = hinge(
        "PhysicsRevoluteJoint",
        'uniform token physics:axis = "Y"\nfloat physics:lowerLimit = -30\nfloat physics:upperLimit = 30',
    )
    angle = math.degrees(math.asin((3 - at_the_end(stage_of(ARM + limited), "/W/B")[2]) / 0.5))
    assert angle == pytest.approx(30, abs=2)
    slides = hinge(
        "PhysicsPrismaticJoint",
        'uniform token physics:axis = "Z"\nfloat physics:lowerLimit = -0.4\nfloat physics:upperLimit = 1',
    )
    assert at_the_end(stage_of(ARM + slides), "/W/B") == pytest.approx([0.5, 0, 2.6], abs=0.01)
    assert at_the_end(stage_of(ARM + hinge("PhysicsFixedJoint", "")), "/W/B") == pytest.approx([0.5, 0, 3], abs=1e-3)
    assert distance_from_pivot(stage_of(ARM + hinge("PhysicsSphericalJoint", "")), 30.0) == pytest.approx(0.5, abs=1e-3)


def test_a_distance_joint_is_a_rope() -> None:
    rope = "rel physics:body1 = </W/B>\npoint3f physics:localPos0 = (0, 0, 3)\nfloat physics:maxDistance = 1"
    stage = stage_of(ARM + f'def PhysicsDistanceJoint "J"\n{{\n{rope}\n}}\n')
    assert distance_from_pivot(stage, 51.0) <= 1.02
    assert at_the_end(stage, "/W/B")[2] < 2.9


def test_what_is_not_solved_here_is_said_by_prim_and_the_rest_is_baked(tmp_path: Path) -> None:
    free = 'def PhysicsJoint "Odd"\n{\nrel physics:body1 = </W/B>\n}\n'
    other = f'def Sphere "Free" {BODY} {{ double radius = 0.1\n{position(3, 0, 5)} }}\n'
    odd = f'def Capsule "Plane" {BODY}\n{{\ndef Plane "P" {STILL}\n{{\n}}\n{position(9, 0, 9)}}}\n'
    scene = tmp_path / "s.usda"
    scene.write_text(SCENE.format(unit=1, weight=1, up="Z", physics="", body=ARM + free + other + odd))
    result = bake(open_scene(scene))
    (made,) = result.baked
    told = " ".join(made.unbaked)
    assert "/W/B" in told and "/W/Odd" in told and "stand still" in told
    # nothing is below what is free here
    assert "/W/Free, /W/Plane: falls past everything" in told
    assert "a plane can be no part of a body" in told
    stage = Usd.Stage.Open(str(made.layer))
    assert stage.GetAttributeAtPath("/W/Free.xformOpOrder") and not stage.GetAttributeAtPath("/W/B.xformOpOrder")
    # solved here or not: no host solves it on top
    assert stage.GetAttributeAtPath("/W/B.physics:rigidBodyEnabled").Get() is False


@pytest.mark.parametrize(
    ("body", "why"),
    [
        (ground() + f'def Cube "B" {BODY} {{ double size = 2\n{position(0, 0, -5)} }}', "fly apart"),
        (f'def Cube "B" {BODY} {{ float physics:mass = -2\n{position(0, 0, 1)} }}', "mass must be"),
        (
            f'def Cube "B" {BODY} {{ vector3f physics:velocity = (nan, 0, 0)\n{position(0, 0, 1)} }}',
            "velocity that is not a number",
        ),
    ],
)
def test_bodies_without_sense_are_refused_with_the_reason(tmp_path: Path, body: str, why: str) -> None:
    scene = tmp_path / "s.usda"
    scene.write_text(SCENE.format(unit=1, weight=1, up="Z", physics="", body=body))
    result = bake(open_scene(scene))
    assert not result.baked and why in result.failed[0].why
    assert not list((tmp_path / "s.tidy" / "caches").glob("*.record.json"))


def test_b4_baked_bodies_are_moved_by_their_cache_alone_and_frames_hold_in_any_order(tmp_path: Path) -> None:
    scene = tmp_path / "s.usda"
    body = ground() + "".join(
        f'def Cube "B{n}" {BODY} {{ double size = 0.4\n{position(0.05 * n, 0, 0.3 + 0.45 * n)} }}\n' for n in range(4)
    )
    text = SCENE.format(unit=1, weight=1, up="Z", physics="", body=body)
    scene.write_text(text.replace("endTimeCode = 51", "endTimeCode = 21"))
    # bodies that only the solver moves are things that move
    assert open_scene(scene).survey().motion == "things"
    assert bake(open_scene(scene)).baked
    after = prove_order(open_scene(scene))
    assert after.holds and not after.live
    survey = open_scene(scene).survey()
    assert survey.simulations[0].state.value == "cached" and survey.totals.live_simulations == 0
    first = (tmp_path / "s.tidy/caches/Physics.usda").read_bytes()
    assert b"physics:rigidBodyEnabled = 0" in first
    assert bake(open_scene(scene)).up_to_date == ("/Physics",)
    bake(open_scene(scene), again=True)
    assert (tmp_path / "s.tidy/caches/Physics.usda").read_bytes() == first


def test_a_body_below_a_turned_scaled_and_moving_parent_falls_straight_in_the_world() -> None:
    order = 'uniform token[] xformOpOrder = ["xformOp:translate", "xformOp:rotateXYZ", "xformOp:scale"]'
    rig = (
        "double3 xformOp:translate.timeSamples = { 1: (0, 0, 0), 51: (4, 0, 0) }\n"
        f"float3 xformOp:rotateXYZ = (0, 0, 90)\nfloat3 xformOp:scale = (2, 2, 2)\n{order}\n"
    )
    stage = stage_of(
        f'def Xform "Rig"\n{{\n{rig}def Cube "B" {BODY} {{ double size = 0.2\n{position(1, 0, 10)} }}\n}}\n'
    )
    assert at_the_end(stage, "/W/Rig/B", 26.0) == pytest.approx([0, 2, 20 - 9.81 / 2], abs=1e-3)


def test_what_blows_up_is_refused_and_leaves_nothing_in_the_folder_it_ran_in(tmp_path: Path, run: Run) -> None:
    (tmp_path / "here").mkdir()
    body = f'def Cube "B" {BODY} {{ vector3f physics:velocity = (1e30, 0, 0)\n{position(0, 0, 1)} }}'
    scene = tmp_path / "s.usda"
    scene.write_text(SCENE.format(unit=1, weight=1, up="Z", physics="", body=body))
    done = run("bake", scene, "--json", cwd=tmp_path / "here")
    assert done.code == 1 and "fly apart" in done.json["failed"][0]["why"]
    assert list((tmp_path / "here").iterdir()) == []


def test_a_scene_without_units_is_refused() -> None:
    stage = stage_of(ARM, unit=0.0)
    with pytest.raises(UnreadableInput, match="units"):
        Running(stage, find_all(stage)[0], 1.0)


def test_what_a_bake_could_not_solve_is_told_by_every_later_command(tmp_path: Path, run: Run) -> None:
    """Each command is a process of its own: it learns it from what the bake wrote down, also in the crate."""
    scene = tmp_path / "s.usda"
    sunken = f'def Cube "B" {BODY} {{ double size = 1\n{position(0, 0, 0.25)} }}\n'
    scene.write_text(SCENE.format(unit=1, weight=1, up="Z", physics="", body=ground() + sunken))
    baked = run("bake", scene, "--json")
    (told,) = baked.json["baked"][0]["unbaked"]
    assert "begins" in told and "inside" in told
    assert told in str(run("survey", scene, "--json").json["simulations"])
    findings = run("check", scene, "--json").json["findings"]
    assert [one["message"] for one in findings if one["code"] == "simulation-unsolved"] == [told]
    crate = tmp_path / "s.crate"
    collected = run("collect", scene, "-o", crate)
    assert collected.code in (0, 1)
    for shown in (collected.out, run("prove", crate).out):
        assert f"not solved: {told}" in " ".join(shown.split())
    found = run("check", crate, "--json").json["findings"]
    assert [one["message"] for one in found if one["code"] == "simulation-unsolved"] == [told]
