"""From a glTF file to a survey."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from tidy_crate.core.asset import paths
from tidy_crate.core.asset.resolve import Disk, resolve
from tidy_crate.core.asset.sequences import FrameTokens
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.scene.assets import asset_of
from tidy_crate.core.scene.following import follow
from tidy_crate.core.scene.formats.gltf.document import (
    Link,
    buffer_bytes,
    embedded_trouble,
    entry,
    links,
    read_document,
    rows,
)
from tidy_crate.core.scene.formats.gltf.needed import needed_images, shown_nodes
from tidy_crate.core.scene.formats.gltf.structure import wrong_types
from tidy_crate.core.scene.ids import Ids, stem_of
from tidy_crate.core.scene.model import (
    Asset,
    Camera,
    Feature,
    FrameRange,
    Output,
    Pass,
    Resolution,
    Setting,
    Software,
    Survey,
    Unread,
    Why,
    totals,
)
from tidy_crate.core.scene.settings import canonical
from tidy_crate.core.scene.staging import PICTURE, USUAL_RATE, RenderOrder, StagingPlan, source_of

FIELD = "uri"
# the key of a staged file's extras that says what is to be rendered
EXTRAS = "tidy_crate_render"


def read(scene: Path, plan: StagingPlan | None, tokens: FrameTokens) -> Survey:
    """Survey a glTF file. It has no frames, outputs or resolution; its animations' times in seconds are settings."""
    scene = scene.absolute()
    # a URI names one file, whatever marks are in it
    in_force, disk = plan or StagingPlan(), Disk(tokens, patterns=False)
    document = read_document(scene)
    content = document.content
    order = in_force.render or order_in(content)
    cut = document.trouble or embedded_trouble(document, scene)
    wrong = wrong_types(content)
    # in doubt about the way to them, all images are needed
    images = None if wrong else needed_images(content)
    ids, stem = Ids(), stem_of(scene, scene)
    named = tuple(
        _asset(scene, link, content, images, in_force, disk, ids.of(stem, link.pointer, link.uri))
        for link in links(content)
    )
    assets = named + follow(scene, named, in_force, disk)
    moving = _moving(content)
    cameras = _cameras(content)
    camera = order.chosen(one.path for one in cameras) if order else None
    outputs = tuple(_outputs(order, camera))
    cameras = tuple(
        one.model_copy(update={"renders": tuple(output.name for output in outputs if output.camera == one.path)})
        for one in cameras
    )
    settings = tuple(_times(content))
    return Survey(
        scene=scene,
        format="gltf",
        staged=bool(in_force.edits),
        frames=_frames(order),
        up_axis="Y",
        meters_per_unit=1.0,
        cameras=cameras,
        resolution=_resolution(order),
        outputs=outputs,
        said=in_force.said or dict.fromkeys(order.says if order else (), "scene"),
        asked_frames=order.frames if order else None,
        assets=assets,
        simulations=(),
        settings=settings,
        canonical=canonical(settings),
        software=_software(content),
        variants=(),
        motion=_motion(content, moving),
        features=tuple(_required(content)),
        unread=tuple(Unread(path=scene, why=Why.BROKEN, detail=detail) for detail in (*([cut] if cut else []), *wrong)),
        totals=totals(assets, ()),
        frame_tokens=dict(tokens.declared),
        layers=(scene,),
    )


def order_in(content: dict[str, Any]) -> RenderOrder | None:
    """Return what a staged file says of its rendering, in its `extras`: the format itself has no place for it."""
    extras = content.get("extras")
    said = extras.get(EXTRAS) if isinstance(extras, dict) else None
    if said is None:
        return None
    try:
        return RenderOrder.model_validate(said)
    except ValidationError as error:
        what = f"what the file's extras say of its rendering makes no sense ({error.errors()[0]['msg']})"
        raise UnreadableInput(
            what, f"/extras/{EXTRAS}", "take it out of the file, and say it in the decisions"
        ) from error


def _frames(order: RenderOrder | None) -> FrameRange:
    if order is None or order.range is None:
        return FrameRange(start=None, end=None, fps=0.0)
    start, end = order.range
    return FrameRange(start=start, end=end, fps=order.fps or USUAL_RATE)


def _resolution(order: RenderOrder | None) -> Resolution | None:
    return Resolution(width=order.resolution[0], height=order.resolution[1]) if order and order.resolution else None


def _outputs(order: RenderOrder | None, camera: str | None) -> Iterator[Output]:
    for name, one in (order.outputs(()) if order else {}).items():
        ending = paths.file_name(one.path).rpartition(".")[2].lower() if "." in one.path else None
        passes = one.passes or (PICTURE,)
        variables = tuple(Pass(name=own, source=source_of(own), data_type="") for own in passes)
        yield Output(
            name=name, prim=name, path=one.path, format=ending, passes=passes, variables=variables, camera=camera,
            resolution=_resolution(order),
        )  # fmt: skip


# bytes of a number, by the format's own code for its type; and numbers per element
_COMPONENT = {5120: 1, 5121: 1, 5122: 2, 5123: 2, 5125: 4, 5126: 4}
_ELEMENT = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}


def geometry_bytes(scene: Path) -> int:
    """Bytes of all accessors."""
    total = 0
    for accessor in rows(read_document(scene.absolute()).content, "accessors"):
        count, component, kind = (accessor.get(key) for key in ("count", "componentType", "type"))
        if isinstance(count, int) and count > 0 and isinstance(component, int) and isinstance(kind, str):
            total += count * _COMPONENT.get(component, 0) * _ELEMENT.get(kind, 0)
    return total


def _required(content: dict[str, Any]) -> Iterator[Feature]:
    """The extensions without which the file cannot be shown right, by its own word."""
    required = content.get("extensionsRequired")
    for name in required if isinstance(required, list) else ():
        if isinstance(name, str):
            yield Feature(name=name, required=True, where="extensionsRequired")


def _asset(
    scene: Path,
    link: Link,
    content: dict[str, Any],
    images: dict[int, str] | None,
    plan: StagingPlan,
    disk: Disk,
    name: str,
) -> Asset:
    value, relinked = plan.value(name, link.uri, link.path)
    needed, because = _need(link, images)
    found, least = resolve(value, scene.parent, disk), buffer_bytes(content, link.pointer)
    there = found.members[0].bytes if found.members else 0
    cut = f"the scene needs {least} bytes of it and {there} are there" if least and there < least else None
    return asset_of(
        name,
        found,
        plan,
        authored=link.uri,
        value=value,
        layer=scene,
        owner=link.pointer,
        field=FIELD,
        kind=link.kind,
        needed=needed,
        because=because,
        relinked=relinked,
        unread=cut if found.members else None,
    )


def _need(link: Link, images: dict[int, str] | None) -> tuple[bool, str]:
    """Images are needed where the scene that shows uses them; all others are unknown and count as needed.

    images: what uses each, None where the file is broken on the way to them.
    """
    parts = link.pointer.split("/")
    if images is None:
        return True, "the file is broken where it says what uses it"
    if parts[1] != "images" or not parts[2].isdigit():
        return True, f"named at {link.pointer}"
    user = images.get(int(parts[2]))
    return (True, f"used by {user}") if user else (False, "nothing that shows uses it")


def _moving(content: dict[str, Any]) -> set[int]:
    """The nodes that animations move, with all that hangs on them."""
    found: set[int] = set()
    for animation in rows(content, "animations"):
        for channel in rows(animation, "channels"):
            target = channel.get("target")
            node = target.get("node") if isinstance(target, dict) else None
            if isinstance(node, int):
                found.add(node)
    queue = list(found)
    while queue:
        children = entry(content, "nodes", queue.pop()).get("children", [])
        fresh = {c for c in children if isinstance(c, int)} - found if isinstance(children, list) else set()
        found |= fresh
        queue.extend(fresh)
    return found


def _cameras(content: dict[str, Any]) -> tuple[Camera, ...]:
    nodes = rows(content, "nodes")
    return tuple(
        Camera(path=f"/nodes/{at} {node.get('name', '')}".strip())
        for at, node in enumerate(nodes)
        if isinstance(node.get("camera"), int)
    )


def _motion(content: dict[str, Any], moving: set[int]) -> str:
    shown = shown_nodes(content) & moving
    if not shown:
        return "still"
    lenses = {at for at, node in enumerate(rows(content, "nodes")) if isinstance(node.get("camera"), int)}
    return "camera" if shown <= lenses else "things"


def _times(content: dict[str, Any]) -> list[Setting]:
    """First and last key of each animation, in seconds: a glTF file states no frame rate."""
    found = []
    for at, animation in enumerate(rows(content, "animations")):
        ends = []
        for sampler in rows(animation, "samplers"):
            accessor = entry(content, "accessors", sampler.get("input"))
            for key in ("min", "max"):
                value = accessor.get(key)
                if isinstance(value, list) and value and isinstance(value[0], int | float):
                    ends.append(float(value[0]))
        if ends:
            found.append(Setting(owner=f"/animations/{at}", name="seconds", value=[min(ends), max(ends)]))
    return found


def _software(content: dict[str, Any]) -> tuple[Software, ...]:
    generator = content.get("asset", {}).get("generator")
    if not isinstance(generator, str) or not generator.strip():
        return ()
    return (Software(name=generator.strip()[:200], version="unknown", role="host"),)
