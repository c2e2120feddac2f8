"""Poses that OpenUSD itself only warns about, above a camera, a spring and a body: named, and never an accident."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from conftest import ANY
from tidy_crate.core.bake.run import bake
from tidy_crate.core.check.run import check_scene
from tidy_crate.core.context.scene import open_scene
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.prove import prove

SCENE = """#usda 1.0
(
    startTimeCode = 1
    endTimeCode = 5
)
def PhysicsScene "Physics" { }
def Xform "Rig" {
    double3 xformOp:translate.timeSamples = { 1: (0, 0, 0), 5: (1, 0, 0) }
    %s
    def Camera "Cam" { }
    def Sphere "Ball" { }
    def Xform "Tail" {
        token tidy:simulation = "springFollow"
        bool tidy:simulation:live = true
        rel tidy:spring:target = </Rig/Ball>
    }
    def Cube "Box" ( prepend apiSchemas = ["PhysicsRigidBodyAPI", "PhysicsCollisionAPI"] ) { }
}
def Scope "Render" {
    def RenderSettings "s" {
        rel camera = </Rig/Cam>
        rel products = </Render/p>
    }
    def RenderProduct "p" {
        token productName = "out/p.####.exr"
    }
}
"""
# no program has to agree with another one on what these mean
UNCLEAR = {
    "unknown type": 'double xformOp:spin = 3\ntoken[] xformOpOrder = ["xformOp:translate", "xformOp:spin"]',
    "text for an angle": 'string xformOp:rotateX = "3"\ntoken[] xformOpOrder = ["xformOp:rotateX"]',
    "number for a matrix": 'double xformOp:transform = 3\ntoken[] xformOpOrder = ["xformOp:transform"]',
    "inverse of nothing": 'token[] xformOpOrder = ["!invert!xformOp:translate", "!invert!xformOp:nope"]',
    "no name": 'token[] xformOpOrder = [""]',
    "no operation": 'double foo = 1\ntoken[] xformOpOrder = ["foo"]',
}
# the standard says what these mean, strange as they are
CLEAR = {
    "operation that is not there": 'token[] xformOpOrder = ["xformOp:translate", "xformOp:rotateX"]',
    "reset at the end": 'token[] xformOpOrder = ["xformOp:translate", "!resetXformStack!"]',
    "order of another type": 'string xformOpOrder = "xformOp:translate"',
    "the same twice": 'token[] xformOpOrder = ["xformOp:translate", "xformOp:translate"]',
    "schema's own values of another type": 'string visibility = "foo"\nint purpose = 3',
    "no numbers": 'double3 xformOp:scale = (nan, 0, inf)\ntoken[] xformOpOrder = ["xformOp:scale"]',
    "flat": 'double3 xformOp:scale = (0, 0, 0)\ntoken[] xformOpOrder = ["xformOp:translate", "xformOp:scale"]',
}


@pytest.mark.parametrize("name", [*UNCLEAR, *CLEAR])
def test_a_strange_pose_is_named_and_the_rest_goes_on(name: str, tmp_path: Path) -> None:
    scene = tmp_path / "s.usda"
    text = SCENE % (UNCLEAR | CLEAR)[name]
    scene.write_text(text.replace("{ }", "{\n}"))
    found = {(finding.code, finding.subject) for finding in check_scene(open_scene(scene)).findings}
    assert ("simulation-live", "/Rig/Tail") in found and ("simulation-live", "/Physics") in found
    assert (("camera-pose-unclear", "/Rig/Cam") in found) is (name in UNCLEAR)
    assert {("simulation-unsolved", "/Rig/Tail"), ("simulation-unsolved", "/Physics")} <= found or name in CLEAR
    result = bake(open_scene(scene))
    if name in UNCLEAR:
        assert not result.baked and {one.simulation for one in result.failed} == {"/Rig/Tail", "/Physics"}
    assert collect(open_scene(scene), tmp_path / "c.crate").complete
    assert prove(tmp_path / "c.crate", os.environ, ANY, test=False).whole
