"""Rigid bodies where reading the scene is the hard part: each against a closed form, or refused by name."""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pytest
from pxr import Gf, Usd, UsdGeom, UsdPhysics
from test_rigid import BODY, SCENE, STILL, at_the_end, ground, position, stage_of

from tidy_crate.core.bake.plan import plan_bake
from tidy_crate.core.bake.run import bake
from tidy_crate.core.check.run import check_scene
from tidy_crate.core.context.scene import open_scene
from tidy_crate.core.scene.formats.usd.simulation.cache import WHOLE
from tidy_crate.core.scene.formats.usd.simulation.physics import build
from tidy_crate.core.scene.formats.usd.simulation.registry import find_all
from tidy_crate.core.scene.formats.usd.simulation.running import Running
from tidy_crate.core.solve.bodies import Body, Shape, Surface, World, mass_of
from tidy_crate.core.solve.rigid import RigidRun

G = 9.81
FALLEN = 5 - G / 2  # from 5 m, after a second
GROUPS = """
def PhysicsCollisionGroup "Balls" ( prepend apiSchemas = ["CollectionAPI:colliders"] ) {{
    rel collection:colliders:includes = </W/B>
    rel physics:filteredGroups = {filtered}
}}
def PhysicsCollisionGroup "Floors" ( prepend apiSchemas = ["CollectionAPI:colliders"] ) {{
    rel collection:colliders:includes = </W/Ground>
}}
"""
FLOOR = f'def Cube "Ground" {STILL}\n{{\ndouble size = 2\n{position(0, 0, 1)}}}\n'


def ball(inside: str = "", z: float = 5, name: str = "B", schemas: str = "") -> str:
    applied = BODY.replace(" ]", "").replace('"]', f'"{schemas}]')
    return f'def Sphere "{name}" {applied} {{\ndouble radius = 0.5\n{inside}\n{position(0, 0, z)} }}\n'


def box(name: str, inside: str, extra: str = "") -> str:
    return f'def Cube "{name}" {STILL}\n{{\ndouble size = 1\n{inside}\n{extra}\n}}\n'


@pytest.mark.parametrize(
    ("body", "rest"),
    [
        (GROUPS.format(filtered="</W/Floors>") + FLOOR + ball(), FALLEN),
        (GROUPS.format(filtered="None") + FLOOR + ball(), 2.5),
        (FLOOR + ball("rel physics:filteredPairs = </W/Ground>", schemas=', "PhysicsFilteredPairsAPI"'), FALLEN),
        (FLOOR.replace("double size", "rel physics:filteredPairs = </W/B>\ndouble size") + ball(), FALLEN),
        (FLOOR + ball(), 2.5),
    ],
    ids=["groups apart", "groups that meet", "pair with what is still", "pair said by what is still", "nothing said"],
)
def test_what_is_kept_apart_falls_through_and_all_else_rests(body: str, rest: float) -> None:
    assert at_the_end(stage_of(body), "/W/B", 26.0)[2] == pytest.approx(rest, abs=2e-3)


def test_of_a_body_with_two_colliders_the_one_that_is_kept_apart_falls_through() -> None:
    # the lower box is kept apart from the floor, so that the upper one lands on it
    parts = box("Low", position(0, 0, 0), "rel physics:filteredPairs = </W/Ground>") + box("High", position(0, 0, 1))
    body = f'def Xform "B" ( prepend apiSchemas = ["PhysicsRigidBodyAPI"] ) {{ {parts}{position(0, 0, 3)} }}\n'
    assert at_the_end(stage_of(FLOOR + body), "/W/B", 51.0)[2] == pytest.approx(1.5, abs=2e-3)


def test_a_centre_of_mass_without_inertia_takes_that_of_the_shape_about_it() -> None:
    mass = "float physics:mass = 2\npoint3f physics:centerOfMass = (0.3, 0, 0)\n"
    spin = "vector3f physics:angularVelocity = (0, 0, 90)\n"
    stage = stage_of(ball(mass + spin), physics="float physics:gravityMagnitude = 0")
    (simulation,) = find_all(stage)
    (body,) = build(stage, simulation, 1.0).world.bodies
    own = 0.4 * 2 * 0.5**2
    assert body.mass == pytest.approx(2) and body.centre == pytest.approx([0.3, 0, 0])
    assert sorted(body.inertia) == pytest.approx(sorted([own, own + 2 * 0.09, own + 2 * 0.09]), rel=1e-5)
    # the velocity is that of the centre of mass, which stays: the origin goes round it by a quarter in a second
    assert at_the_end(stage, "/W/B", 26.0) == pytest.approx([0.3, -0.3, 5], abs=5e-3)


def test_each_physics_scene_has_its_own_gravity() -> None:
    moon = 'def PhysicsScene "Moon"\n{\nfloat physics:gravityMagnitude = 1.62\n}\n'
    stage = stage_of(ball() + ball("rel physics:simulationOwner = </W/Moon>", name="M") + moon)
    ends = {}
    for simulation in find_all(stage):
        running = Running(stage, simulation, 1.0)
        running.go_to(26.0)
        ends |= {value.prim: value.matrix[3][2] for value in running.values()}  # type: ignore[union-attr]
    assert ends["/W/B"] == pytest.approx(5 - G / 2, abs=1e-3)
    assert ends["/W/M"] == pytest.approx(5 - 1.62 / 2, abs=1e-3)


def test_keyed_gravity_acts_as_it_is_keyed() -> None:
    stage = stage_of(ball(), physics=f"float physics:gravityMagnitude.timeSamples = {{ 1: 0, 26: {G} }}")
    # growing evenly to g within a second, it takes the body g / 6 far
    assert at_the_end(stage, "/W/B", 26.0)[2] == pytest.approx(5 - G / 6, abs=2e-3)


def test_a_dynamic_body_follows_none_of_the_keys_that_were_left() -> None:
    keyed = ball().replace(
        "double3 xformOp:translate = (0, 0, 5)",
        "double3 xformOp:translate.timeSamples = { 1: (0, 0, 5), 50: (9, 0, 5) }",
    )
    stage = stage_of(keyed)
    assert at_the_end(stage, "/W/B", 26.0) == pytest.approx([0, 0, FALLEN], abs=1e-3)
    assert "has keys" in " ".join(find_all(stage)[0].trouble)
    held = keyed.replace("double radius", "bool physics:kinematicEnabled = true\ndouble radius")
    assert not find_all(stage_of(held))


def test_bodies_below_instances_fall_like_all_others() -> None:
    prototype = 'class "Proto"\n{\n' + ball(z=0) + "}\n"
    copies = "".join(
        f'def Xform "I{n}" ( instanceable = true\n inherits = </W/Proto> )\n{{\n{position(3 * n, 0, 5)}}}\n'
        for n in range(2)
    )
    assert at_the_end(stage_of(prototype + copies), "/W/I1/B", 26.0) == pytest.approx([3, 0, FALLEN], abs=1e-3)


@pytest.mark.parametrize(
    ("body", "why"),
    [
        (ball("bool physics:kinematicEnabled.timeSamples = { 1: 1, 20: 0 }"), "kinematicEnabled is keyed"),
        (ball("bool physics:rigidBodyEnabled.timeSamples = { 1: 0, 20: 1 }"), "rigidBodyEnabled is keyed"),
        (ball("bool physics:collisionEnabled.timeSamples = { 1: 0, 20: 1 }"), "collisionEnabled is keyed"),
        (ball("float physics:mass.timeSamples = { 1: 1, 20: 9 }"), "mass is keyed"),
        ('def PointInstancer "P" {\nrel prototypes = </W/P/B>\nint[] protoIndices = [0]\n'
         "point3f[] positions = [(0, 0, 1)]\n" + ball() + "}\n", "an instancer copies"),
        ('def PointInstancer "P" {\nrel prototypes = </W/Store/B>\nint[] protoIndices = [0]\n'
         'point3f[] positions = [(0, 0, 1)]\n}\nover "Store"\n{\n' + ball() + "}\n", "an instancer copies"),
    ],
)  # fmt: skip
def test_what_would_be_solved_wrong_is_refused_by_name_in_check_and_bake(tmp_path: Path, body: str, why: str) -> None:
    scene = tmp_path / "s.usda"
    scene.write_text(SCENE.format(unit=1, weight=1, up="Z", physics="", body=body))
    found = [one for one in check_scene(open_scene(scene)).findings if one.code == "simulation-refused"]
    assert found and why in found[0].message and found[0].severity == "error"
    result = bake(open_scene(scene))
    assert not result.baked and why in result.failed[0].why


def test_a_sleeping_body_stays_until_something_that_moves_touches_it() -> None:
    asleep = "bool physics:startsAsleep = true"
    assert at_the_end(stage_of(ball(asleep)), "/W/B", 26.0)[2] == pytest.approx(5)
    shape = (Shape("sphere", (0.1,), np.zeros(3), np.array([1.0, 0, 0, 0]), Surface(0, 1.0), 1000.0),)
    still = np.array([1.0, 0, 0, 0])
    inertia = np.full(3, 0.004)
    common = {"orientation": still, "shapes": shape, "mass": 1.0, "centre": np.zeros(3), "inertia": inertia}
    world = World(
        np.zeros(3),
        (
            Body("hits", np.zeros(3), velocity=np.array([1.0, 0, 0]), **common),
            Body("sleeps", np.array([0.5, 0, 0]), asleep=True, **common),
        ),
    )
    run = RigidRun(world, 0.01)
    for _ in range(20):
        run.advance({}, {})
    assert run.pose("sleeps")[0] == pytest.approx([0.5, 0, 0])
    kept = run.state()
    for _ in range(40):
        run.advance({}, {})
    # elastic, and of one mass: the sleeper takes all of the speed
    assert run.momentum() == pytest.approx([1, 0, 0], abs=1e-6)
    assert run.pose("hits")[0][0] == pytest.approx(0.3, abs=0.01) and run.pose("sleeps")[0][0] > 0.7
    other = RigidRun(world, 0.01)
    other.restore(kept)
    for _ in range(40):
        other.advance({}, {})
    assert other.pose("sleeps")[0] == pytest.approx(run.pose("sleeps")[0], abs=1e-12)


@pytest.mark.parametrize("kind", ["sphere", "ellipsoid", "box", "cylinder", "capsule"])
def test_volume_and_inertia_of_a_shape_are_those_of_its_points(kind: str) -> None:
    size = {"sphere": (0.4,), "ellipsoid": (0.2, 0.3, 0.5), "box": (0.2, 0.3, 0.5)}.get(kind, (0.3, 0.5))
    half = math.sqrt(0.5)
    shape = Shape(kind, size, np.array([1.0, 2, 3]), np.array([half, half, 0, 0]), Surface(), 1.0)
    volume, centre, inertia = mass_of(shape)
    # of points thrown at random into the shape, turned by a quarter about x
    points = np.random.default_rng(7).uniform(-1, 1, (400_000, 3))
    x, y, z = points.T
    across = np.hypot(x, y)
    inside = {
        "sphere": lambda: (points**2).sum(axis=1) <= 0.16,
        "ellipsoid": lambda: ((points / np.array(size * 1)[:3]) ** 2).sum(axis=1) <= 1,
        "box": lambda: (np.abs(points) <= np.array((*size, 1, 1)[:3])).all(axis=1),
        "cylinder": lambda: (across <= 0.3) & (np.abs(z) <= 0.5),
        "capsule": lambda: np.hypot(across, np.maximum(np.abs(z) - 0.5, 0)) <= 0.3,
    }[kind]()
    cloud = points[inside] @ np.array([[1.0, 0, 0], [0, 0, 1], [0, -1, 0]])
    thrown = 8 * inside.mean()
    squares = cloud.T @ cloud / len(cloud) * thrown
    assert volume == pytest.approx(thrown, rel=0.02) and centre == pytest.approx([1, 2, 3])
    assert inertia == pytest.approx(np.trace(squares) * np.eye(3) - squares, abs=0.03 * np.trace(squares))
    hull = Shape("hull", (), np.zeros(3), np.array([1.0, 0, 0, 0]), Surface(), 1.0, cloud + np.array([1, 2, 3]))
    assert mass_of(hull)[0] == pytest.approx(volume, rel=0.06)
    assert np.diag(mass_of(hull)[2]) == pytest.approx(np.diag(inertia), rel=0.12)


def test_b4_once_baked_the_standards_own_reader_finds_no_body_that_moves(tmp_path: Path) -> None:
    odd = ball(z=8, name="Odd") + 'def PhysicsJoint "J"\n{\nrel physics:body1 = </W/Odd>\n}\n'
    carried = ball("bool physics:kinematicEnabled = true", z=11, name="Carried")
    scene = tmp_path / "s.usda"
    scene.write_text(SCENE.format(unit=1, weight=1, up="Z", physics="", body=ground() + ball() + odd + carried))
    live = next(one for one in check_scene(open_scene(scene)).findings if one.code == "simulation-live")
    assert "/W/B" in live.message
    (made,) = bake(open_scene(scene)).baked
    stage = Usd.Stage.CreateInMemory()
    stage.SetTimeCodesPerSecond(25)
    stage.GetRootLayer().subLayerPaths[:] = [str(made.layer), str(scene)]
    read = UsdPhysics.LoadUsdPhysicsFromRange(stage, ["/"])[UsdPhysics.ObjectType.RigidBody]
    assert {str(path): body.rigidBodyEnabled for path, body in zip(*read, strict=True)} == {
        "/W/B": False, "/W/Odd": False, "/W/Carried": False,
    }  # fmt: skip


def test_b5_a_sheared_pose_is_baked_as_a_matrix(tmp_path: Path) -> None:
    rig = 'float3 xformOp:scale = (1, 3, 1)\nuniform token[] xformOpOrder = ["xformOp:scale"]\n'
    spin = "vector3f physics:angularVelocity = (0, 0, 45)\n"
    body = f'def Xform "Rig"\n{{\n{rig}' + ball(spin, z=5) + "}\n"
    text = SCENE.format(unit=1, weight=1, up="Z", physics="", body=body)
    scene = tmp_path / "s.usda"
    scene.write_text(text)
    (made,) = bake(open_scene(scene)).baked
    stage = Usd.Stage.CreateInMemory()
    stage.SetTimeCodesPerSecond(25)
    stage.GetRootLayer().subLayerPaths[:] = [str(made.layer), str(scene)]
    prim = stage.GetPrimAtPath("/W/Rig/B")
    assert prim.GetAttribute(WHOLE).GetNumTimeSamples() == 53
    live = Usd.Stage.Open(str(scene))
    (simulation,) = find_all(live)
    running = Running(live, simulation, 1.0)
    for frame in (2.0, 26.0, 40.0):
        running.go_to(frame)
        own = Gf.Matrix4d(running.values()[0].matrix)  # type: ignore[union-attr]
        parent = UsdGeom.XformCache(frame).GetParentToWorldTransform(live.GetPrimAtPath("/W/Rig/B"))
        assert np.array(UsdGeom.XformCache(frame).GetLocalToWorldTransform(prim)) == pytest.approx(
            np.array(own * parent), abs=1e-9
        )


def test_b8_the_plan_of_a_bake_says_its_size_within_a_factor_of_two(tmp_path: Path) -> None:
    scene = tmp_path / "s.usda"
    scene.write_text(SCENE.format(unit=1, weight=1, up="Z", physics="", body=ground() + ball() + ball(name="C", z=9)))
    (planned,) = plan_bake(open_scene(scene))
    (made,) = bake(open_scene(scene)).baked
    assert planned.bytes is not None and 0.5 < planned.bytes / made.bytes < 2
    assert planned.seconds is not None and planned.seconds > 0


def test_a_hinge_on_a_still_collider_that_it_overlaps_swings(tmp_path: Path) -> None:
    """Two things of one joint do not collide, as the standard has it where the joint says nothing."""
    post = f'def Cube "Post" {STILL}\n{{\ndouble size = 1\n{position(0, 0, 3)}}}\n'
    arm = f'def Cube "B" {BODY} {{ double size = 0.4\nfloat physics:mass = 2\n{position(0.5, 0, 3)} }}\n'
    frames = "point3f physics:localPos0 = (0, 0, 0)\npoint3f physics:localPos1 = (-0.5, 0, 0)"
    ends = "rel physics:body0 = </W/Post>\nrel physics:body1 = </W/B>"
    joint = 'def PhysicsRevoluteJoint "J"\n{{\n{ends}\n{frames}\nuniform token physics:axis = "Y"\n{more}\n}}\n'
    free = stage_of(post + arm + joint.format(ends=ends, frames=frames, more=""))
    # a quarter of a swing of a body with an inertia of its own: l = 0.5, k2 = 0.4 ** 2 / 6
    assert at_the_end(free, "/W/B", 8.0)[2] < 2.8
    held = stage_of(post + arm + joint.format(ends=ends, frames=frames, more="bool physics:collisionEnabled = true"))
    assert at_the_end(held, "/W/B", 8.0)[2] > 2.9
    swapped = ends.replace("body0", "body2").replace("body1", "body0").replace("body2", "body1")
    turned = (
        frames.replace("localPos0", "localPos2").replace("localPos1", "localPos0").replace("localPos2", "localPos1")
    )
    assert at_the_end(stage_of(post + arm + joint.format(ends=swapped, frames=turned, more="")), "/W/B", 8.0)[2] < 2.8


@pytest.mark.parametrize(
    ("dynamic", "way"),
    [("float physics:dynamicFriction = 0", math.sin(math.radians(20)) * G / 2),
     ("", (math.sin(math.radians(20)) - 0.2 * math.cos(math.radians(20))) * G / 2),
     ("float physics:dynamicFriction = 0.1", (math.sin(math.radians(20)) - 0.1 * math.cos(math.radians(20))) * G / 2)],
)  # fmt: skip
def test_a_friction_of_nought_that_is_stated_counts(dynamic: str, way: float) -> None:
    turn = 'double xformOp:rotateY = 20\nuniform token[] xformOpOrder = ["xformOp:rotateY"'
    material = 'def Material "M" ( prepend apiSchemas = ["PhysicsMaterialAPI"] ) {\n'
    material += f"float physics:staticFriction = 0.2\n{dynamic}\n}}\n"
    bound = "rel material:binding:physics = </W/M>"
    binds = STILL.replace('"]', '", "MaterialBindingAPI"]').replace('" ]', '", "MaterialBindingAPI" ]')
    ramp = f'def Cube "Ramp" {binds}\n{{\ndouble size = 1\n{bound}\n'
    ramp += f'double3 xformOp:scale = (40, 4, 1)\n{turn}, "xformOp:scale"]\n}}\n'
    away = "double3 xformOp:translate = (0, 0, 1)\n"
    body = BODY.replace('" ]', '", "MaterialBindingAPI" ]').replace('"]', '", "MaterialBindingAPI"]')
    box = f'def Cube "B" {body} {{ double size = 1\n{bound}\n{away}{turn}, "xformOp:translate"]\n}}\n'
    stage = stage_of(material + ramp + box)
    start = np.array(UsdGeom.XformCache(1).GetLocalToWorldTransform(stage.GetPrimAtPath("/W/B")))[3, :3]
    assert np.linalg.norm(at_the_end(stage, "/W/B", 26.0) - start) == pytest.approx(way, abs=0.02)


def test_a_joint_whose_ends_do_not_meet_is_refused(tmp_path: Path) -> None:
    ends = "rel physics:body0 = </W/Ground>\nrel physics:body1 = </W/B>\npoint3f physics:localPos0 = (0, 0, 9)"
    scene = tmp_path / "s.usda"
    body = FLOOR + ball() + f'def PhysicsSphericalJoint "J"\n{{\n{ends}\n}}\n'
    scene.write_text(SCENE.format(unit=1, weight=1, up="Z", physics="", body=body))
    found = [one for one in check_scene(open_scene(scene)).findings if one.code == "simulation-refused"]
    assert len(found) == 1 and "/W/J: its two ends are 5 m apart" in found[0].message
    assert not bake(open_scene(scene)).baked


def test_a_ragdoll_of_unknown_joints_is_one_line_that_says_that_it_stands_still() -> None:
    parts = [ball(name=f"B{at}", z=at + 1) for at in range(12)]
    joints = [
        f'def PhysicsJoint "J{at}" ( prepend apiSchemas = ["PhysicsDriveAPI:rotX"] )\n'
        f"{{\nrel physics:body0 = </W/B{at}>\nrel physics:body1 = </W/B{at + 1}>\n}}\n"
        for at in range(11)
    ]
    (simulation,) = find_all(stage_of("".join((*parts, *joints))))
    (told,) = simulation.refused
    assert told.startswith("/W/B0, /W/B1, /W/B2 and 9 more: held by a joint of a kind that is not known here")
    assert told.endswith("all of it would stand still") and not simulation.trouble


def test_bodies_that_nothing_can_stop_are_told() -> None:
    bare = 'def Xform "Bare" ( prepend apiSchemas = ["PhysicsRigidBodyAPI"] ) {\nfloat physics:mass = 1\n}\n'
    stage = stage_of(FLOOR + ball() + ball(name="Beside").replace("(0, 0, 5)", "(30, 0, 5)") + bare)
    (simulation,) = find_all(stage)
    assert simulation.trouble == ("/W/Bare: no collider, so that nothing stops it on its way",)
    running = Running(stage, simulation, 1.0)
    running.go_to(51.0)
    (told,) = [one for one in running.trouble() if "falls past" in one]
    assert told.startswith("/W/Bare, /W/Beside: falls past everything that could stop it")


def test_samples_of_a_cache_are_no_animation_and_what_is_simulated_moves_on(tmp_path: Path) -> None:
    """The keys end at frame 20 and the ball falls on: no frame after it is one in which nothing moves."""
    keyed = 'def Sphere "Keyed" {\ndouble radius.timeSamples = { 1: 1, 20: 2 }\n}\n'
    scene = tmp_path / "s.usda"
    scene.write_text(SCENE.format(unit=1, weight=1, up="Z", physics="", body=ball() + keyed))
    for _ in range(2):
        context = open_scene(scene)
        assert context.survey().animated == (1, 20)
        assert not [
            one
            for one in check_scene(context).findings
            if one.code in ("frames-beyond-animation", "frames-animation-cut")
        ]
        bake(context)
    scene.write_text(scene.read_text().replace(ball(), ""))
    found = [one.code for one in check_scene(open_scene(scene)).findings if one.code.startswith("frames-")]
    assert found == ["frames-beyond-animation"]
