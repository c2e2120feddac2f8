"""The staged USD scene: what the obvious ways get silently wrong."""

from __future__ import annotations

from pathlib import Path

from pxr import Sdf, Usd, UsdGeom

from conftest import open_trusted, usda
from tidy_crate.core.asset.resolve import Disk
from tidy_crate.core.bake.run import bake
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.scene.formats.usd.compose import compose_source, staged_root
from tidy_crate.core.scene.formats.usd.facts import layer_facts
from tidy_crate.core.scene.formats.usd.layers import walk_layers
from tidy_crate.core.scene.formats.usd.slots import Slot, rewrite
from tidy_crate.core.scene.model import Simulation, Status
from tidy_crate.core.scene.staging import Relink, StagingPlan, UseCache
from tidy_crate.practice.demo.scene import DemoScene


def write(path: Path, text: str) -> Path:
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(usda(text))
    return path


def test_b3_a_cache_wins_over_the_scene_and_says_its_rate(packed: tuple[SceneContext, Path]) -> None:
    _, crate = packed
    stage = Usd.Stage.Open(str(crate / "shots/quay_010/lantern_quay_v001.staged.usda"))
    camera = stage.GetPrimAtPath("/Quay/Camera")
    poses = {str(UsdGeom.XformCache(t).GetLocalToWorldTransform(camera)) for t in (1001, 1020, 1040)}
    assert len(poses) == 3
    cache = Sdf.Layer.FindOrOpen(str(crate / "caches/Quay.Camera.usda"))
    assert cache.timeCodesPerSecond == 25
    # one sample beyond each end, for the shutter
    times = cache.ListTimeSamplesForPath("/Quay/Camera.xformOp:translate:baked")
    assert (times[0], times[-1]) == (1000, 1049)


def test_b5_keyframes_are_translate_orient_and_scale_and_never_a_matrix(packed: tuple[SceneContext, Path]) -> None:
    _, crate = packed
    stage = Usd.Stage.Open(str(crate / "shots/quay_010/lantern_quay_v001.staged.usda"))
    ops = UsdGeom.Xformable(stage.GetPrimAtPath("/Quay/Camera")).GetOrderedXformOps()
    kinds = [op.GetOpType() for op in ops]
    assert kinds == [UsdGeom.XformOp.TypeTranslate, UsdGeom.XformOp.TypeOrient, UsdGeom.XformOp.TypeScale]


def test_the_staged_root_carries_all_that_only_a_root_can_say(packed: tuple[SceneContext, Path]) -> None:
    context, crate = packed
    scene = Sdf.Layer.FindOrOpen(str(context.scene))
    staged = Sdf.Layer.FindOrOpen(str(crate / "shots/quay_010/lantern_quay_v001.staged.usda"))
    for key in scene.pseudoRoot.ListInfoKeys():
        if not key.startswith("subLayer"):
            assert staged.pseudoRoot.GetInfo(key) == scene.pseudoRoot.GetInfo(key), key


def test_what_holds_a_baked_prim_is_no_instance_any_more(tmp_path: Path) -> None:
    write(tmp_path / "rig.usda", 'def Xform "Rig" { def Camera "Cam" { double3 xformOp:translate = (0, 0, 0) } }')
    scene = write(tmp_path / "s.usda", 'def Xform "A" ( instanceable = true\n references = @./rig.usda@</Rig> ) {}')
    source = compose_source(walk_layers(scene, StagingPlan(), Disk())).stage
    assert source.GetPrimAtPath("/A").IsInstance()
    edit = UseCache(simulation="/A/Cam", layer=tmp_path / "c.usda", fingerprint="", covers=(1, 2))
    staged = staged_root(source, source.GetRootLayer(), StagingPlan(edits=(edit,)), {"/A/Cam": "./c.usda"}, "./s.usda")
    assert staged.GetPrimAtPath("/A").instanceable is False
    assert staged.GetPrimAtPath("/A/Cam").attributes["tidy:simulation:live"].default is False


def test_rewriting_reaches_variants_arrays_samples_and_metadata(tmp_path: Path) -> None:
    body = """(
    subLayers = [@./sub.usda@]
    customLayerData = { asset note = @./note.txt@ }
)
def "A" ( references = @./ref.usda@</R>
    payload = @./pay.usda@</P>
    customData = { dictionary deep = { asset d = @./deep.txt@ } }
    variants = { string v = "x" }
    prepend variantSets = "v" ) {
    asset[] many = [@./m1.png@, @./m2.png@]
    asset timed.timeSamples = { 1: @./t1.png@, 2: @./t2.png@ }
    variantSet "v" = { "x" ( references = @./invariant.usda@</V> ) { asset inner = @./in.png@ } }
}"""
    path = write(tmp_path / "all.usda", body)
    layer = Sdf.Layer.FindOrOpen(str(path))
    before = layer_facts(layer).slots
    names = {slot.text for slot in before}
    assert names == {
        "./sub.usda", "./note.txt", "./ref.usda", "./pay.usda", "./deep.txt", "./m1.png", "./m2.png", "./t1.png",
        "./t2.png", "./invariant.usda", "./in.png",
    }  # fmt: skip
    copy = Sdf.Layer.CreateAnonymous("copy.usda")
    copy.TransferContent(layer)

    def moved(slot: Slot) -> str:
        return "./moved/" + slot.text[2:]

    rewrite(copy, moved)
    assert sorted(slot.text for slot in layer_facts(copy).slots) == sorted(
        "./moved/" + slot.text[2:] for slot in before
    )
    assert [slot.path for slot in layer_facts(copy).slots] == [slot.path for slot in before]
    # the layer that other stages see has not changed
    assert layer_facts(layer).slots == before


def test_r4_a_relinked_layer_is_composed_and_what_it_names_is_found(tmp_path: Path) -> None:
    write(tmp_path / "new/part.usda", 'def Sphere "P" { asset a = @./deep.png@ }')
    (tmp_path / "new/deep.png").write_bytes(b"x")
    write(tmp_path / "show/mid.usda", 'def "M" ( references = @./lost/part.usda@</P> ) {}')
    scene = write(tmp_path / "show/s.usda", 'def "A" ( references = @./mid.usda@</M> ) {}')
    context = open_trusted(scene)
    lost = next(asset for asset in context.survey().assets if asset.status is Status.MISSING)
    plan = StagingPlan(edits=(Relink(asset=lost.id, to=tmp_path / "new/part.usda"),))
    survey = context.format.read(scene, plan)
    deep = next(asset for asset in survey.assets if asset.authored == "./deep.png")
    assert (deep.status, deep.needed, deep.used_by) == (Status.FOUND, True, ("/A",))


def test_a_binary_layer_stays_binary_and_a_usd_layer_keeps_its_encoding(tmp_path: Path) -> None:
    (tmp_path / "t.png").write_bytes(b"x")
    for name, arguments in (("b.usdc", {}), ("c.usd", {"format": "usdc"}), ("t.usd", {"format": "usda"})):
        layer = Sdf.Layer.CreateAnonymous("x.usda")
        layer.ImportFromString(usda(f'def Sphere "S" {{ asset a = @{(tmp_path / "t.png").as_posix()}@ }}'))
        layer.Export(str(tmp_path / "in" / name), args=arguments)
    scene = write(tmp_path / "in/s.usda", "(subLayers = [@./b.usdc@, @./c.usd@, @./t.usd@])")
    crate = tmp_path / "out.crate"
    collect(open_trusted(scene), crate)
    heads = {path.name: path.read_bytes()[:8] for path in crate.rglob("*.usd*")}
    assert heads["b.usdc"] == heads["c.usd"] == b"PXR-USDC"
    assert heads["t.usd"].startswith(b"#usda")


def test_s8_states_follow_the_inputs_and_the_samples(demo: DemoScene, context: SceneContext) -> None:
    def camera() -> Simulation:
        return next(one for one in open_trusted(demo.scene).survey().simulations if one.name == "/Quay/Camera")

    def state() -> str:
        return camera().state.value

    assert state() == "live"
    bake(context, ["/Quay/Camera"])
    assert state() == "cached"
    animation = demo.scene.with_name("animation.usda")
    kept = animation.read_bytes()
    # the ferry starts from another place: the cache belongs to the old way
    animation.write_bytes(kept.replace(b"-420,", b"-421,"))
    assert animation.read_bytes() != kept
    assert state() == "stale"
    animation.write_bytes(kept)
    assert state() == "cached"
    cache = next((context.tidy / "caches").glob("*.usda"))
    lines = [line for line in cache.read_text().splitlines(keepends=True) if not line.strip().startswith("1010:")]
    cache.write_text("".join(lines))
    assert camera().gaps == (1010,)
    assert state() == "partial"
