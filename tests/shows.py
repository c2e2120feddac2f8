"""A small show: shots of few small frames, with one simulation each, that the practice renderer renders in no time."""

from __future__ import annotations

from pathlib import Path

from conftest import usda
from tidy_crate.practice.demo.scene import PROJECT_FILE

SHOT = """(defaultPrim = "Ferry"
 startTimeCode = 1
 endTimeCode = {frames}
 renderSettingsPrimPath = "/Render/S")
def Xform "Ferry" {{ double3 xformOp:translate.timeSamples = {{ 1: (0, 0, 0), {frames}: (9, 0, 0) }}
    uniform token[] xformOpOrder = ["xformOp:translate"]
    def Mesh "Hull" {{ point3f[] points = [(-1, -1, -8), (1, -1, -8), (0, 1, -8)]
        int[] faceVertexCounts = [3]
        int[] faceVertexIndices = [0, 1, 2]
        color3f[] primvars:displayColor = [(0.8, 0.4, 0.2)]
        {hull} }} }}
def Xform "Rig" {{ custom token tidy:simulation = "springFollow"
    custom double tidy:simulation:start = 1
    custom rel tidy:spring:target = </Ferry>
    custom double tidy:spring:frequency = 2
    custom double tidy:spring:dampingRatio = 0.5
    def Camera "Cam" {{ float focalLength = 20 }} }}
def DomeLight "Sky" {{ float inputs:intensity = 1 }}
def Scope "Render" {{
    def RenderSettings "S" {{ rel camera = </Rig/Cam>
        rel products = </Render/P>
        uniform int2 resolution = (32, 18) }}
    def RenderProduct "P" {{ token productName = "renders/p_####.exr"
        rel orderedVars = [</Render/c>]
}}
    def RenderVar "c" {{ string sourceName = "beauty" }} }}"""


def write_shot(folder: Path, name: str, frames: int = 6, hull: str = "") -> Path:
    """Write a shot's scene into a show's folder, which is made a project. hull: more on its one mesh."""
    folder.mkdir(parents=True, exist_ok=True)
    project = folder / "tidy-crate.toml"
    if not project.exists():
        project.write_text("[render]" + PROJECT_FILE.partition("[render]")[2].partition("# Where")[0])
    scene = folder / f"{name}_v001.usda"
    scene.write_text(usda(SHOT.format(frames=frames, hull=hull)))
    return scene


def with_rules(folder: Path, rules: str) -> None:
    """Write rules for carrying into a show's project file."""
    text = (folder / "tidy-crate.toml").read_text().partition("[carry]")[0]
    (folder / "tidy-crate.toml").write_text(f"{text}[carry]\n{rules}\n")
