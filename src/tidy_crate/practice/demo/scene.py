"""Writes Lantern Quay: a night-ferry pier with lanterns, cargo boxes, a passing ferry, and troubles planted in it.

Z up, in centimetres, 25 time codes a second, frames 1001 to 1048, so that nothing rests on defaults. Planted:
a texture behind an absolute path, one that was moved away, one with a Windows drive path, an output without a
path and one without a frame number, half the resolution left from a test, no colour space, an automatic save newer
than the scene, a missing file that nothing visible uses, and four kinds of simulation that every machine would start
again: a camera on a spring, lanterns that jiggle, boxes that tumble off a trolley, and drizzle.
"""

from __future__ import annotations

import math
import os
import shutil
from dataclasses import dataclass
from pathlib import Path

from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdPhysics, UsdRender, UsdShade, Vt

from tidy_crate.core.scene.formats.usd.quiet import usd_messages
from tidy_crate.practice.demo.textures import write_textures

FIRST, LAST, RATE = 1001, 1048, 25.0
SPRING_START = 981
WIDTH, HEIGHT = 320, 180

PROJECT_FILE = """\
name = "Lantern Quay"

# The command that renders this project's scenes. Here it is the small renderer that ships with the tool;
# timings made with it say nothing about a real one, hence the basis.
[render]
name = "practice"
version = "1.0"
basis = "practice"
command = [
  "{python}", "-m", "tidy_crate.practice.render", "{scene}",
  "--frames", "{frames}", "--camera", "{camera}", "--width", "{width}", "--height", "{height}",
  "--samples", "{samples}", "--into", "{output_folder}",
]
frame_done = 'frame (?P<frame>-?\\d+) done in (?P<seconds>[\\d.]+) s'

# Where this project's scenes may be, and who must have signed what: countries by ISO 3166.
[confidential]
places = ["DE", "NL"]
"""
BRIEF = """\
# What the production ordered of this shot.
title = "Lantern Quay, shot 010"
passes = ["beauty", "alpha", "depth", "normal", "objectId"]
format = "exr"
naming = "{scene}_{output}.####.exr"
moving_camera = true

[frames]
start = 1001
end = 1048
count = 48
fps = 25

[resolution]
width = 320
height = 180
"""


@dataclass(frozen=True)
class DemoScene:
    """Paths of the demo's parts."""

    project: Path
    scene: Path
    archive: Path


def write_demo_scene(folder: Path) -> DemoScene:
    """Write the whole scene into `folder` and say where it is. Files of an earlier run are replaced."""
    project = folder / "lantern_quay"
    shot = project / "shots" / "quay_010"
    archive = folder / "archive" / "spring"
    kept = archive / project.name / "textures"
    write_textures(project / "textures")
    # the artist tidied up: one texture moved away, and the scene was not updated
    kept.mkdir(parents=True, exist_ok=True)
    (project / "textures" / "rope.png").replace(kept / "rope.png")
    text = 'brief = "brief.toml"\n' + PROJECT_FILE
    (project / "tidy-crate.toml").write_text(text, encoding="utf-8", newline="\n")
    (project / "brief.toml").write_text(BRIEF, encoding="utf-8", newline="\n")
    _write_pier(project / "assets" / "pier" / "pier.usda", project / "textures" / "planks.png")
    _write_box(project / "assets" / "box" / "box.usdc")
    _write_lantern(project / "assets" / "lantern" / "lantern.usda")
    _write_ferry(project / "assets" / "ferry" / "ferry.usda")
    _write_animation(shot / "animation.usda")
    _write_lighting(shot / "lighting.usda")
    scene = shot / "lantern_quay_v001.usda"
    with usd_messages():  # the layers it names are found once it is saved beside them
        _write_root(scene)
    _write_autosave(scene)
    return DemoScene(project, scene, archive)


def _write_autosave(scene: Path) -> None:
    """Planted: the program saved by itself after the artist did."""
    copy = scene.with_name(f"{scene.stem}.autosave{scene.suffix}")
    shutil.copyfile(scene, copy)
    saved = scene.stat().st_mtime_ns
    os.utime(copy, ns=(saved, saved + 180 * 10**9))


def _new(name: str, default: str | None = None) -> Usd.Stage:
    stage = Usd.Stage.CreateInMemory(name)
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.z)
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    stage.SetTimeCodesPerSecond(RATE)
    stage.SetFramesPerSecond(RATE)
    if default:
        stage.SetDefaultPrim(UsdGeom.Xform.Define(stage, default).GetPrim())
    return stage


def _save(stage: Usd.Stage, path: Path) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    stage.GetRootLayer().Export(str(path))


def _material(stage: Usd.Stage, path: str, texture: str = "", colour=(0.5, 0.5, 0.5), glow=(0, 0, 0)):  # type: ignore[no-untyped-def]
    material = UsdShade.Material.Define(stage, path)
    shader = UsdShade.Shader.Define(stage, f"{path}/Surface")
    shader.CreateIdAttr("UsdPreviewSurface")
    shader.CreateInput("emissiveColor", Sdf.ValueTypeNames.Color3f).Set(Gf.Vec3f(*glow))
    diffuse = shader.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f)
    if texture:
        reader = UsdShade.Shader.Define(stage, f"{path}/Coordinates")
        reader.CreateIdAttr("UsdPrimvarReader_float2")
        reader.CreateInput("varname", Sdf.ValueTypeNames.String).Set("st")
        image = UsdShade.Shader.Define(stage, f"{path}/Texture")
        image.CreateIdAttr("UsdUVTexture")
        image.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(Sdf.AssetPath(texture))
        image.CreateInput("sourceColorSpace", Sdf.ValueTypeNames.Token).Set("sRGB")
        image.CreateInput("wrapS", Sdf.ValueTypeNames.Token).Set("repeat")
        image.CreateInput("wrapT", Sdf.ValueTypeNames.Token).Set("repeat")
        st = reader.CreateOutput("result", Sdf.ValueTypeNames.Float2)
        image.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(st)
        diffuse.ConnectToSource(image.CreateOutput("rgb", Sdf.ValueTypeNames.Float3))
    else:
        diffuse.Set(Gf.Vec3f(*colour))
    material.CreateSurfaceOutput().ConnectToSource(shader.CreateOutput("surface", Sdf.ValueTypeNames.Token))
    return material


def _bind(prim: Usd.Prim, material: UsdShade.Material) -> None:
    UsdShade.MaterialBindingAPI.Apply(prim).Bind(material)


_CORNERS = [(x, y, z) for z in (-0.5, 0.5) for y in (-0.5, 0.5) for x in (-0.5, 0.5)]
_SIDES = [(0, 2, 3, 1), (4, 5, 7, 6), (0, 1, 5, 4), (2, 6, 7, 3), (0, 4, 6, 2), (1, 3, 7, 5)]


def _block(stage: Usd.Stage, path: str, size, at, material=None, tiles: float = 1.0) -> UsdGeom.Mesh:  # type: ignore[no-untyped-def]
    """A box as a mesh, in centimetres, with texture coordinates on each side."""
    mesh = UsdGeom.Mesh.Define(stage, path)
    points = [Gf.Vec3f(*(c * s + a for c, s, a in zip(corner, size, at, strict=True))) for corner in _CORNERS]
    mesh.CreatePointsAttr(points)
    mesh.CreateExtentAttr([points[0], points[-1]])
    mesh.CreateFaceVertexCountsAttr([4] * 6)
    mesh.CreateFaceVertexIndicesAttr([i for side in _SIDES for i in side])
    mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    st = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.faceVarying)
    st.Set(Vt.Vec2fArray([Gf.Vec2f(u * tiles, v * tiles) for _ in _SIDES for u, v in ((0, 0), (0, 1), (1, 1), (1, 0))]))
    if material:
        _bind(mesh.GetPrim(), material)
    return mesh


def _write_pier(path: Path, planks: Path) -> None:
    stage = _new("pier.usda", "/Pier")
    # planted: an absolute path, which holds on this machine only
    planks_material = _material(stage, "/Pier/Looks/Planks", planks.absolute().as_posix())
    # planted: this texture was moved away
    rope = _material(stage, "/Pier/Looks/Rope", "../../textures/rope.png")
    _block(stage, "/Pier/Deck", (1600, 420, 24), (0, 0, -12), planks_material, tiles=3)
    for index, x in enumerate(range(-700, 701, 280)):
        _block(stage, f"/Pier/Post{index}", (16, 16, 300), (x, 190, 138), rope)
    _block(stage, "/Pier/Rail", (1600, 10, 10), (0, 190, 285), rope)
    _save(stage, path)


def _write_box(path: Path) -> None:
    stage = _new("box.usdc", "/Box")
    # planted: a path of the machine this was modelled on
    side = _material(stage, "/Box/Looks/Side", "Q:\\lantern_quay\\textures\\crate_side.png")
    _block(stage, "/Box/Body", (70, 70, 70), (0, 0, 35), side)
    _save(stage, path)


def _write_lantern(path: Path) -> None:
    stage = _new("lantern.usda", "/Lantern")
    paper = _material(stage, "/Lantern/Looks/Paper", "../../textures/paper.png", glow=(2.6, 1.35, 0.5))
    string = _material(stage, "/Lantern/Looks/String", colour=(0.08, 0.07, 0.06))
    _block(stage, "/Lantern/String", (2, 2, 60), (0, 0, -30), string)
    _bind(_shade(stage, "/Lantern/Shade", 22, -80), paper)
    light = UsdLux.SphereLight.Define(stage, "/Lantern/Flame")
    light.CreateRadiusAttr(24)
    light.CreateIntensityAttr(18)
    light.CreateColorAttr(Gf.Vec3f(1.0, 0.62, 0.28))
    UsdGeom.XformCommonAPI(light).SetTranslate((0, 0, -80))
    _save(stage, path)


def _shade(stage: Usd.Stage, path: str, radius: float, height: float) -> Usd.Prim:
    """A paper ball that is held at its top and swings below."""
    around, rings = 16, 10
    ball = [
        (math.sin(polar) * math.cos(turn), math.sin(polar) * math.sin(turn), math.cos(polar))
        for polar in (math.pi * ring / rings for ring in range(rings + 1))
        for turn in (2 * math.pi * step / around for step in range(around))
    ]
    faces = [
        (ring * around + step, (ring + 1) * around + step, (ring + 1) * around + after, ring * around + after)
        for ring in range(rings)
        for step in range(around)
        for after in [(step + 1) % around]
    ]
    mesh = UsdGeom.Mesh.Define(stage, path)
    mesh.CreatePointsAttr([Gf.Vec3f(radius * x, radius * y, height + radius * z) for x, y, z in ball])
    mesh.CreateFaceVertexCountsAttr([4] * len(faces))
    mesh.CreateFaceVertexIndicesAttr([corner for face in faces for corner in face])
    mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    st = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.vertex)
    st.Set([Gf.Vec2f(at % around / around * 3, 1 - at // around / rings) for at in range(len(ball))])
    prim = mesh.GetPrim()
    # planted: how far it has swung depends on all frames before
    _simulation(prim, "jiggle", SPRING_START)
    prim.CreateAttribute("tidy:jiggle:frequency", Sdf.ValueTypeNames.Double).Set(2.0)
    prim.CreateAttribute("tidy:jiggle:dampingRatio", Sdf.ValueTypeNames.Double).Set(0.08)
    prim.CreateAttribute("tidy:jiggle:stretch", Sdf.ValueTypeNames.Double).Set(0.6)
    weights = [0.0 if z > 0.9 else min(1.0, (1 - z) / 1.2) for _, _, z in ball]
    prim.CreateAttribute("tidy:jiggle:weights", Sdf.ValueTypeNames.FloatArray).Set(weights)
    return prim


def _simulation(prim: Usd.Prim, kind: str, start: int) -> None:
    prim.CreateAttribute("tidy:simulation", Sdf.ValueTypeNames.Token).Set(kind)
    prim.CreateAttribute("tidy:simulation:live", Sdf.ValueTypeNames.Bool).Set(True)
    prim.CreateAttribute("tidy:simulation:start", Sdf.ValueTypeNames.Double).Set(start)


def _write_ferry(path: Path) -> None:
    stage = _new("ferry.usda", "/Ferry")
    hull = _material(stage, "/Ferry/Looks/Hull", colour=(0.10, 0.20, 0.30))
    cabin = _material(stage, "/Ferry/Looks/Cabin", colour=(0.75, 0.73, 0.66))
    window = _material(stage, "/Ferry/Looks/Window", colour=(0.2, 0.2, 0.1), glow=(1.6, 1.3, 0.7))
    funnel = _material(stage, "/Ferry/Looks/Funnel", colour=(0.65, 0.16, 0.12))
    _block(stage, "/Ferry/Hull", (720, 220, 110), (0, 0, 20), hull)
    _block(stage, "/Ferry/Cabin", (430, 170, 110), (-20, 0, 130), cabin)
    for index in range(6):
        _block(stage, f"/Ferry/Window{index}", (40, 4, 36), (-190 + index * 68, -86, 138), window)
    chimney = UsdGeom.Cube.Define(stage, "/Ferry/Funnel")
    chimney.CreateSizeAttr(1)
    UsdGeom.XformCommonAPI(chimney).SetTranslate((60, 0, 230))
    UsdGeom.XformCommonAPI(chimney).SetScale((60, 60, 110))
    _bind(chimney.GetPrim(), funnel)
    _save(stage, path)


def _write_animation(path: Path) -> None:
    stage = _new("animation.usda")
    ferry = UsdGeom.Xformable(stage.OverridePrim("/Quay/Ferry"))
    move = ferry.AddTranslateOp()
    for frame in range(SPRING_START, LAST + 3):
        t = (frame - FIRST) / RATE
        # it leaves the berth with a jerk, so that the camera's spring has something to swing about
        x = -420 + 150 * max(0.0, t) + 90 * max(0.0, t) ** 2
        move.Set(Gf.Vec3d(x, 760, -60 + 6 * math.sin(2.1 * t)), frame)
    trolley = UsdGeom.Xformable(stage.OverridePrim("/Quay/Trolley")).AddTranslateOp()
    for frame in range(SPRING_START, LAST + 3):
        # it gathers speed slowly enough for its load, and stops at the buffer all at once
        t = min(max(0.0, (frame - FIRST) / RATE), 0.84)
        way = 200 * t * t if t < 0.6 else 72 + 240 * (t - 0.6)
        trolley.Set(Gf.Vec3d(-480 + way, 40, 30), frame)
    for index in range(5):
        lantern = UsdGeom.Xformable(stage.OverridePrim(f"/Quay/Lantern{index}"))
        sway = lantern.AddRotateXYZOp(opSuffix="sway")
        hang = UsdGeom.XformOp(
            lantern.GetPrim().CreateAttribute("xformOp:translate", Sdf.ValueTypeNames.Double3, False)
        )
        lantern.SetXformOpOrder([hang, sway])
        for frame in range(FIRST - 1, LAST + 3):
            t = (frame - FIRST) / RATE
            swing = math.sin(2 * math.pi * (0.55 * t + 0.17 * index))
            sway.Set(Gf.Vec3f(9 * swing, 6 * math.cos(3.1 * t + index), 0), frame)
    _save(stage, path)


def _write_lighting(path: Path) -> None:
    stage = _new("lighting.usda")
    lights = UsdGeom.Xform.Define(stage, "/Quay/Lights")
    moon = UsdLux.DistantLight.Define(stage, "/Quay/Lights/Moon")
    UsdGeom.XformCommonAPI(moon).SetRotate((38, 24, 0))
    sky = UsdLux.DomeLight.Define(stage, "/Quay/Lights/Sky")
    sky.CreateTextureFileAttr(Sdf.AssetPath("../../textures/sky.png"))
    sky.CreateTextureFormatAttr(UsdLux.Tokens.latlong)
    moods = lights.GetPrim().GetVariantSets().AddVariantSet("mood")
    for name, moonlight, colour, skylight in (
        ("dusk", 1.3, (1.0, 0.78, 0.62), 0.9),
        ("night", 0.5, (0.62, 0.72, 1.0), 0.25),
        ("fog", 0.25, (0.9, 0.92, 1.0), 0.7),
    ):
        moods.AddVariant(name)
        moods.SetVariantSelection(name)
        with moods.GetVariantEditContext():
            moon.CreateIntensityAttr(moonlight)
            moon.CreateColorAttr(Gf.Vec3f(*colour))
            sky.CreateIntensityAttr(skylight)
    moods.SetVariantSelection("dusk")
    _save(stage, path)


def _write_root(path: Path) -> None:
    stage = _new(path.name, "/Quay")
    layer = stage.GetRootLayer()
    layer.subLayerPaths = ["./animation.usda", "./lighting.usda"]
    stage.SetStartTimeCode(FIRST)
    stage.SetEndTimeCode(LAST)
    pier = stage.DefinePrim("/Quay/Pier", "Xform")
    pier.GetPayloads().AddPayload("../../assets/pier/pier.usda")
    stage.DefinePrim("/Quay/Ferry", "Xform").GetReferences().AddReference("../../assets/ferry/ferry.usda")
    for index in range(5):
        lantern = stage.DefinePrim(f"/Quay/Lantern{index}", "Xform")
        lantern.GetReferences().AddReference("../../assets/lantern/lantern.usda")
        lantern.CreateAttribute("xformOp:translate", Sdf.ValueTypeNames.Double3, False).Set(
            Gf.Vec3d(-560 + 280 * index, 190, 280)
        )
    _write_cargo(stage)
    water = _material(stage, "/Quay/Looks/Water", colour=(0.04, 0.09, 0.12))
    _block(stage, "/Quay/Water", (160000, 160000, 2), (0, 76000, -92), water)
    _write_drizzle(stage)
    _write_sketch(stage)
    _write_camera(stage)
    _write_render_settings(stage)
    layer.customLayerData = {"creator": "quaybuilder 3.2"}
    _save(stage, path)


def _write_cargo(stage: Usd.Stage) -> None:
    """Boxes on a trolley that stops too suddenly. Planted: where they are depends on every touch before."""
    UsdPhysics.Scene.Define(stage, "/Quay/Physics")
    UsdPhysics.CollisionAPI.Apply(stage.OverridePrim("/Quay/Pier/Deck"))
    iron = _material(stage, "/Quay/Looks/Iron", colour=(0.12, 0.12, 0.14))
    trolley = _block(stage, "/Quay/Trolley", (200, 110, 20), (0, 0, 0), iron).GetPrim()
    UsdPhysics.RigidBodyAPI.Apply(trolley).CreateKinematicEnabledAttr(True)
    UsdPhysics.CollisionAPI.Apply(trolley)
    for index, (x, y, z, turn) in enumerate(
        ((-528, 40, 40, 4), (-432, 36, 40, -5), (-470, 44, 110, 20), (180, -20, 0, 44))
    ):
        box = stage.DefinePrim(f"/Quay/Box{index}", "Xform")
        box.GetReferences().AddReference("../../assets/box/box.usdc")
        UsdGeom.XformCommonAPI(box).SetTranslate((x, y, z))
        UsdGeom.XformCommonAPI(box).SetRotate((0, 0, turn))
        UsdPhysics.RigidBodyAPI.Apply(box)
        UsdPhysics.MassAPI.Apply(box).CreateMassAttr(18)
        body = stage.OverridePrim(f"/Quay/Box{index}/Body")
        UsdPhysics.CollisionAPI.Apply(body)
        UsdPhysics.MeshCollisionAPI.Apply(body).CreateApproximationAttr(UsdPhysics.Tokens.convexHull)


def _write_drizzle(stage: Usd.Stage) -> None:
    """Planted: a machine that starts late has an empty sky."""
    drizzle = UsdGeom.Points.Define(stage, "/Quay/Drizzle")
    UsdGeom.XformCommonAPI(drizzle).SetTranslate((0, 60, 430))
    drizzle.CreateDisplayColorAttr([Gf.Vec3f(0.7, 0.8, 0.9)])
    prim, kinds = drizzle.GetPrim(), Sdf.ValueTypeNames
    _simulation(prim, "particles", SPRING_START)
    for name, kind, value in (
        ("rate", kinds.Double, 150.0), ("life", kinds.Double, 0.75), ("seed", kinds.Int, 20),
        ("size", kinds.Vector3d, Gf.Vec3d(1500, 500, 0)), ("velocity", kinds.Vector3d, Gf.Vec3d(0, 0, -300)),
        ("spread", kinds.Double, 20.0), ("drag", kinds.Double, 2.0), ("wind", kinds.Vector3d, Gf.Vec3d(60, 0, 0)),
        ("floor", kinds.Double, 1.5), ("bounce", kinds.Double, 0.2), ("width", kinds.Double, 3.0),
    ):  # fmt: skip
        prim.CreateAttribute(f"tidy:particles:{name}", kind).Set(value)


def _write_sketch(stage: Usd.Stage) -> None:
    # planted: missing, but on a plane that never shows
    sketch = _material(stage, "/Quay/Looks/Sketch", "./sketches/pier_sketch.png")
    plane = _block(stage, "/Quay/Sketch", (800, 2, 450), (0, 400, 300), sketch)
    UsdGeom.Imageable(plane).MakeInvisible()


def _write_camera(stage: Usd.Stage) -> None:
    camera = UsdGeom.Camera.Define(stage, "/Quay/Camera")
    camera.CreateHorizontalApertureAttr(36)
    camera.CreateVerticalApertureAttr(20.25)
    camera.CreateFocalLengthAttr(30)
    camera.CreateClippingRangeAttr(Gf.Vec2f(5, 50000))
    UsdGeom.XformCommonAPI(camera).SetTranslate((-420, -780, 330))
    UsdGeom.XformCommonAPI(camera).SetRotate((83, 0, 0))
    prim = camera.GetPrim()
    # planted: a spring that every machine would start again
    _simulation(prim, "springFollow", SPRING_START)
    prim.CreateRelationship("tidy:spring:target").SetTargets(["/Quay/Ferry"])
    prim.CreateAttribute("tidy:spring:frequency", Sdf.ValueTypeNames.Double).Set(0.7)
    prim.CreateAttribute("tidy:spring:dampingRatio", Sdf.ValueTypeNames.Double).Set(0.3)
    prim.CreateAttribute("tidy:spring:offset", Sdf.ValueTypeNames.Vector3d).Set(Gf.Vec3d(260, -1540, 390))


def _write_render_settings(stage: Usd.Stage) -> None:
    settings = UsdRender.Settings.Define(stage, "/Render/Settings")
    settings.CreateResolutionAttr(Gf.Vec2i(WIDTH, HEIGHT))
    settings.CreateCameraRel().SetTargets(["/Quay/Camera"])
    prim = settings.GetPrim()
    prim.CreateAttribute("practice:samples", Sdf.ValueTypeNames.Int).Set(2)
    # planted: half the size, left from a test
    prim.CreateAttribute("practice:resolutionScale", Sdf.ValueTypeNames.Float).Set(0.5)
    prim.CreateAttribute("practice:version", Sdf.ValueTypeNames.String).Set("1.0")
    names = {"beauty": "color3f", "alpha": "float", "depth": "float", "normal": "normal3f", "objectId": "int"}
    for name, kind in names.items():
        var = UsdRender.Var.Define(stage, f"/Render/Vars/{name}")
        var.CreateSourceNameAttr(name)
        var.CreateDataTypeAttr(kind)
    # planted: the matte has no path, so its frames would be rendered, paid and lost; the beauty no frame number, so
    # that each frame replaces the one before
    for product, path, passes in (
        ("Beauty", "renders/beauty/lantern_quay_beauty.exr", list(names)),
        ("Matte", "", ["alpha", "objectId"]),
    ):
        schema = UsdRender.Product.Define(stage, f"/Render/Products/{product}")
        schema.CreateProductNameAttr(path)
        schema.CreateOrderedVarsRel().SetTargets([f"/Render/Vars/{name}" for name in passes])
    settings.CreateProductsRel().SetTargets(["/Render/Products/Beauty", "/Render/Products/Matte"])
    stage.SetMetadata("renderSettingsPrimPath", "/Render/Settings")
