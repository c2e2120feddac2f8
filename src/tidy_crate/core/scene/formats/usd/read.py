"""From a USD scene to a survey."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Container, Iterable
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path

from pxr import Usd, UsdGeom

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.resolve import Disk, locate
from tidy_crate.core.asset.sequences import STANDARD, FrameTokens
from tidy_crate.core.garbage import no_garbage_collection
from tidy_crate.core.scene.assets import asset_of
from tidy_crate.core.scene.following import FIELD, follow
from tidy_crate.core.scene.formats.usd import package
from tidy_crate.core.scene.formats.usd.broken import broken_links
from tidy_crate.core.scene.formats.usd.compose import Composed, compose_source, compose_staged
from tidy_crate.core.scene.formats.usd.features import (
    materials_of,
    scene_features,
    unknown_simulations,
    unknown_types,
)
from tidy_crate.core.scene.formats.usd.layers import BrokenLayer, Occurrence, Walk, text_files, walk_layers
from tidy_crate.core.scene.formats.usd.needed import Needed, is_needed, judge, times_of_clips, without_clips_out_of_use
from tidy_crate.core.scene.formats.usd.outputs import find_cameras, find_outputs, raw_settings, schema_settings
from tidy_crate.core.scene.formats.usd.prims import Kind, Names, ScenePrims, scan, timed_prims
from tidy_crate.core.scene.formats.usd.quiet import usd_messages
from tidy_crate.core.scene.formats.usd.simulation.states import find_simulations
from tidy_crate.core.scene.formats.usd.slots import REMOVED
from tidy_crate.core.scene.formats.usd.tiles import TilesInUse
from tidy_crate.core.scene.model import (
    Asset,
    Camera,
    FrameRange,
    Setting,
    Simulation,
    Software,
    Survey,
    Unread,
    Variant,
    Why,
    totals,
)
from tidy_crate.core.scene.settings import SettingsMap, canonical, features_of, renderer_of
from tidy_crate.core.scene.staging import StagingPlan, UseCache
from tidy_crate.core.scene.survey_cache import Questions
from tidy_crate.core.work.request import RenderRequest

# of the prims that a file reaches, so many are listed
MOST_USERS = 8
# a program's name, and its version where it ends in one
_CREATOR = re.compile(r"(\S.*?)[\s,-]+(?:version\s+)?(v?\d[\w.+-]*(?:\s+(?:sp|update|build)\s*\d+)?)", re.IGNORECASE)
_KINDS = {
    ".exr": "texture", ".hdr": "texture", ".png": "texture", ".jpg": "texture", ".jpeg": "texture",
    ".tif": "texture", ".tiff": "texture", ".tx": "texture", ".tga": "texture", ".bmp": "texture",
    ".vdb": "volume", ".ies": "light profile", ".abc": "cache", ".ocio": "colour configuration",
    ".ttf": "font", ".otf": "font", ".usdz": "package", ".mtlx": "material",
}  # fmt: skip


def read(
    scene: Path,
    plan: StagingPlan | None,
    request: RenderRequest | None,
    maps: tuple[SettingsMap, ...],
    survey_cache: Path | None = None,
    tokens: FrameTokens = STANDARD,
    questions: Questions | None = None,
) -> Survey:
    """Survey a scene as found, or as the plan would stage it. See SceneFormat.read."""
    with no_garbage_collection():
        scene, in_force, disk = scene.absolute(), plan or StagingPlan(), Disk(tokens)
        texts = frozenset(name for one in maps for name in one.files)
        found = _walk_and_compose(scene, in_force, disk, survey_cache, texts)
        if found is None:
            # every layer is opened then, and the broken ones are named
            disk = Disk(tokens)
            walk = walk_layers(scene, in_force, disk, survey_cache, texts)
            found = walk, compose_source(walk)
        walk, source = found
        composed = compose_staged(walk, in_force, source) if in_force.edits else source
        with usd_messages(scene):
            survey = _survey(walk, source, composed, in_force, request, maps, disk)
        if questions is not None:
            _note_questions(questions, walk, disk, in_force, survey)
        return survey


def _walk_and_compose(
    scene: Path, plan: StagingPlan, disk: Disk, survey_cache: Path | None, texts: frozenset[str]
) -> tuple[Walk, Composed] | None:
    """Walk all layers, and compose the scene as found beside that.

    Return None where a layer that was read by its text is broken.
    """
    composing: list[Future[Composed]] = []
    with ThreadPoolExecutor(1) as beside:
        # the library composes on a core of its own
        def begin(met: Walk) -> Callable[[], object]:
            composing.append(beside.submit(compose_source, met))
            return composing[0].result

        try:
            walk = walk_layers(scene, plan, disk, survey_cache, texts, begin)
        except BrokenLayer:
            return None
    return walk, composing[0].result()


def _note_questions(questions: Questions, walk: Walk, disk: Disk, plan: StagingPlan, survey: Survey) -> None:
    questions.about(disk)
    for path in {*walk.facts, *walk.unread, *walk.opaque}:
        inside = package.split(path)
        questions.file(path if inside is None else inside[0])
    for edit in plan.of(UseCache):
        for path in (edit.layer, *edit.files):
            questions.file(path)
    for simulation in survey.simulations:
        if simulation.cache is not None:
            questions.file(simulation.cache)
            questions.folder(simulation.cache.parent)
    for folder in {asset.layer.parent for asset in survey.assets if asset.field == FIELD}:
        # where one path may be written in two ways, what is there decides
        questions.folder(folder)


def _survey(
    walk: Walk,
    source: Composed,
    composed: Composed,
    plan: StagingPlan,
    request: RenderRequest | None,
    maps: tuple[SettingsMap, ...],
    disk: Disk,
) -> Survey:
    stage = composed.stage
    names = Names.of(walk)
    scene = scan(composed, walk, names)
    frames = _frames(stage)
    times = None if not frames.count else (float(frames.numbers()[0]), float(frames.numbers()[-1]))
    render = find_outputs(stage, maps, scene.of_kind(Kind.RENDER), times)
    prims = [render.settings] if render.settings else []
    prims += [stage.GetPrimAtPath(output.prim) for output in render.outputs]
    settings = raw_settings(prims, maps)
    known = canonical(settings) | schema_settings(render.settings)
    renderer = renderer_of(settings, maps)
    cameras = find_cameras(scene.of_kind(Kind.CAMERA), render.outputs, frames.start, frames.end)
    simulated = "tidy:simulation" in names.properties or "PhysicsRigidBodyAPI" in names.schemas
    simulations: tuple[Simulation, ...] = ()
    if simulated:
        simulations = find_simulations(source.stage, stage, plan, frames, known.get("motion_blur") is True)
    needed = judge(composed, scene, names, walk, _window(frames, request), render.settings)
    timed = list(timed_prims(scene, names))
    tiles = TilesInUse(composed, scene, needed, render.settings)
    named = tuple(
        _asset(o, walk, composed, scene, needed, plan, tiles) for o in walk.occurrences if not _held_in_package(o)
    )
    assets = named + follow(walk.root, named, plan, disk)
    types, texts = unknown_types(scene), frozenset(name for one in maps for name in one.files)
    unknown = unknown_simulations(scene, names, types)
    return Survey(
        scene=walk.root,
        format="openusd",
        staged=bool(plan.edits),
        frames=frames,
        said=plan.said,
        asked_frames=plan.render.frames if plan.render else None,
        animated=_animated(timed, {path for one in simulations for path in one.prims}),
        up_axis=str(UsdGeom.GetStageUpAxis(stage)),
        meters_per_unit=UsdGeom.GetStageMetersPerUnit(stage),
        cameras=cameras,
        resolution=render.resolution or next((o.resolution for o in render.outputs if o.resolution), None),
        outputs=render.outputs,
        assets=assets,
        simulations=simulations,
        settings=settings,
        canonical=known,
        software=_software(stage, settings),
        renderer=renderer.renderer if renderer else None,
        features=(*scene_features(scene, names), *features_of(settings, maps)),
        materials=materials_of(scene, renderer) if renderer else (),
        material_contexts=renderer.materials if renderer else (),
        unknown_types={name: path for name, path in types.items() if name not in unknown},
        unknown_simulations=unknown,
        text_files=text_files(walk, disk, texts, assets),
        inactive_outputs=render.inactive,
        colour_configuration=_colour_configuration(stage),
        settings_prim=str(render.settings.GetPath()) if render.settings else None,
        fraction=_fraction(stage),
        variants=_variants(scene.named(names.variants)),
        motion=_motion(timed, cameras, simulations),
        unread=(*walk.unread.values(), *(Unread(path=path, why=Why.NO_READER) for path in sorted(walk.opaque))),
        broken_links=broken_links(composed, walk, scene, names, needed),
        render_settings_choices=render.choices,
        totals=totals(assets, simulations),
        frame_tokens=dict(disk.tokens.declared),
        layers=tuple(path for path in walk.facts if package.split(path) is None or path.suffix == package.SUFFIX),
    )


def _frames(stage: Usd.Stage) -> FrameRange:
    """Return the whole time codes inside the authored range, every n-th where a frame lasts n time codes."""
    root = stage.GetRootLayer()
    start = stage.GetStartTimeCode() if root.HasStartTimeCode() else None
    end = stage.GetEndTimeCode() if root.HasEndTimeCode() else None
    codes, frames = stage.GetTimeCodesPerSecond(), stage.GetFramesPerSecond()
    apart = root.HasFramesPerSecond() and frames > 0 and codes > 0 and abs(codes - frames) > 1e-6
    step = codes / frames if apart else 1.0
    whole = step >= 1 and abs(step - round(step)) < 1e-6
    return FrameRange(
        start=None if start is None or not math.isfinite(start) else math.ceil(start),
        end=None if end is None or not math.isfinite(end) else math.floor(end),
        step=round(step) if whole else 1,
        fps=frames if apart else codes,
        time_codes_per_second=codes if apart else None,
    )


def _fraction(stage: Usd.Stage) -> tuple[float, float] | None:
    """The authored range, where it does not start and end on whole time codes."""
    if not stage.HasAuthoredTimeCodeRange():
        return None
    ends = (stage.GetStartTimeCode(), stage.GetEndTimeCode())
    return ends if all(map(math.isfinite, ends)) and not all(end.is_integer() for end in ends) else None


def _colour_configuration(stage: Usd.Stage) -> str | None:
    return stage.GetColorConfiguration().path or None


def _window(frames: FrameRange, request: RenderRequest | None) -> tuple[float, float] | None:
    if request is not None:
        numbers = request.numbers()
        return float(min(numbers)), float(max(numbers))
    return None if frames.start is None or frames.end is None else (float(frames.start), float(frames.end))


def _animated(timed: Iterable[Usd.Prim], simulated: Container[str]) -> tuple[int, int] | None:
    """First and last time code at which anything that renders is keyed.

    timed: the prims that may be. simulated: those whose keys are samples of a cache, which say when it was baked.
    """
    first, last = math.inf, -math.inf
    for prim in timed:
        if prim.GetPath().pathString in simulated:
            continue
        for attribute in prim.GetAuthoredAttributes():
            if attribute.GetNumTimeSamples() > 1:
                times = attribute.GetTimeSamples()
                first, last = min(first, times[0]), max(last, times[-1])
    return (math.floor(first), math.ceil(last)) if first <= last else None


def _asset(
    occurrence: Occurrence,
    walk: Walk,
    composed: Composed,
    scene: ScenePrims,
    needed: Needed,
    plan: StagingPlan,
    tiles: TilesInUse,
) -> Asset:
    used, because = is_needed(occurrence, composed, walk, scene, needed)
    resolution = occurrence.resolution
    plays: dict[Path, tuple[float, ...]] = {}
    if occurrence.slot.numbers:
        times = times_of_clips(occurrence, walk, composed, scene)
        resolution = without_clips_out_of_use(occurrence, times, needed)
        located = ((locate(name, occurrence.layer.parent), own) for name, own in times.items())
        plays = {path: own for path, own in located if path is not None}
    elif used:
        resolution = tiles.held_to(occurrence)
    users = scene.users.get(occurrence.site, ())
    unread = (walk.unread[m.path] for m in occurrence.resolution.members if m.path in walk.unread)
    return asset_of(
        occurrence.id,
        resolution,
        plan,
        authored=occurrence.slot.text,
        value=occurrence.value,
        layer=occurrence.layer,
        owner=occurrence.slot.path,
        field=occurrence.slot.field,
        context=occurrence.context,
        evaluated=occurrence.evaluated,
        within=occurrence.within,
        leads=occurrence.leads,
        time=occurrence.slot.time,
        used_by=tuple(users[:MOST_USERS]),
        kind=_kind(occurrence),
        needed=used,
        because=because,
        relinked=occurrence.relinked,
        plays=plays,
        unread=next((one.detail for one in unread), None),
    )


def _held_in_package(occurrence: Occurrence) -> bool:
    """Return whether it is one file of a package naming another: the package as a whole is what travels."""
    return bool(occurrence.resolution.members) and package.split(occurrence.layer) is not None


def _kind(occurrence: Occurrence) -> str:
    location = occurrence.resolution.location
    if location is not None and package.split(location) is not None:
        return "package"
    if occurrence.layer_target is not None and occurrence.slot.is_arc:
        return "layer"
    suffix = "." + paths.file_name(occurrence.value).rpartition(".")[2].lower()
    if suffix in _KINDS:
        return _KINDS[suffix]
    is_layer = occurrence.slot.is_arc or occurrence.slot.field in REMOVED.values()
    return "layer" if suffix in (".usda", ".usdc", ".usd") or is_layer else "file"


def _software(stage: Usd.Stage, settings: tuple[Setting, ...]) -> tuple[Software, ...]:
    """Return what the scene says of its makers: nothing is guessed from a file's look."""
    found = []
    data = stage.GetRootLayer().customLayerData
    creator = data.get("creator")
    if isinstance(creator, str) and creator:
        match = _CREATOR.fullmatch(creator.strip()[:200])
        name, version = (match[1], match[2]) if match else (creator.strip()[:200], "unknown")
        found.append(Software(name=name, version=version, role="host"))
    for setting in settings:
        if setting.means == "renderer_version":
            found.append(Software(name=setting.name.partition(":")[0], version=str(setting.value), role="renderer"))
    return tuple(found)


def _variants(prims: Iterable[Usd.Prim]) -> tuple[Variant, ...]:
    found = []
    for prim in prims:
        if prim.HasVariantSets():
            sets = prim.GetVariantSets()
            for name in sets.GetNames():
                chosen = sets.GetVariantSet(name)
                found.append(
                    Variant(
                        prim=str(prim.GetPath()),
                        set=name,
                        selected=chosen.GetVariantSelection(),
                        choices=tuple(chosen.GetVariantNames()),
                    )
                )
    return tuple(found)


def _motion(timed: Iterable[Usd.Prim], cameras: tuple[Camera, ...], simulations: tuple[Simulation, ...]) -> str:
    """`things` when anything but a camera changes over time, else `camera`, else `still`."""
    lenses = {camera.path for camera in cameras}
    if any(set(one.prims or (one.name,)) - lenses for one in simulations):
        return "things"
    for prim in timed:
        # materials, skeletons and settings change the picture as much as what stands in it
        if str(prim.GetPath()) in lenses:
            continue
        if any(attribute.ValueMightBeTimeVarying() for attribute in prim.GetAuthoredAttributes()):
            return "things"
    # a pose that cannot be evaluated may move; that it does is the safe answer
    return "camera" if simulations or any(camera.changes or camera.trouble for camera in cameras) else "still"
