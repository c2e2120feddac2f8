"""Wishes of a submission that differ from how the crate was packed. Nothing is uploaded again for them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from pathlib import PurePosixPath

from tidy_crate.core.asset.frames import format_frames, parse_frames
from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.farm.protocol import FileForm
from tidy_crate.core.model import Model
from tidy_crate.core.scene.model import Camera, Survey, Variant
from tidy_crate.core.work.options import USUAL_SPREAD, FrameOrder, SendOptions
from tidy_crate.core.work.request import RenderRequest, VariantChoice, View, size_of
from tidy_crate.core.work.task import TaskRange, first, spread

_GRID = re.compile(r"(\d{1,3})x(\d{1,3})")
MOST_VIEWS = 100_000


class Difference(Model):
    """One effective setting that is not as the crate was packed."""

    what: str
    packed: str
    asked: str


def requests_asked(
    content: PackingList, survey: Survey | None, options: SendOptions, tested: Iterable[int] = ()
) -> tuple[RenderRequest, ...]:
    """Return the crate's requests as the wishes change them.

    survey: of the crate's scene, needed where cameras or variants are named. tested: frames that were tested here, for
    their order.

    Raises WrongUsage for what the scene does not have, and for a size, range or split that cannot be.
    """
    views = _views(survey, options) if survey is not None else ()
    found = []
    for request in content.to_render():
        update: dict[str, object] = {}
        numbers = parse_frames(options.frames) if options.frames is not None else request.numbers()
        numbers = _ordered(numbers, options, tuple(tested))
        if numbers != request.numbers():
            update["frames"] = format_frames(numbers)
        if views:
            update["views"] = views
        if options.size is not None:
            update["width"], update["height"] = size_of(options.size, (request.width, request.height))
        if options.samples is not None:
            update["samples"] = options.samples
        if options.outputs is not None:
            update["outputs"] = _outputs(request, options.outputs)
        if options.tiles is not None:
            update["tiles"] = _grid(options.tiles)
        if options.shares is not None:
            update["shares"] = options.shares
        try:
            found.append(RenderRequest.model_validate(request.model_dump() | update))
        except ValueError as error:
            raise WrongUsage(_plain(error), request.name) from error
    return tuple(found)


def _plain(error: ValueError) -> str:
    from pydantic import ValidationError

    if isinstance(error, ValidationError):
        return str(error.errors()[0]["msg"]).removeprefix("Value error, ")
    return str(error)


def differences(
    content: PackingList, requests: Sequence[RenderRequest], options: SendOptions
) -> tuple[Difference, ...]:
    """Return what is asked otherwise than the crate was packed, in plain words."""
    found = []
    for packed, asked in zip(content.requests, requests, strict=True):
        same = sorted(packed.numbers()) == sorted(asked.numbers())
        rows = [
            ("order of the frames" if same else "frames", packed.frames, asked.frames),
            ("size", f"{packed.width} x {packed.height}", f"{asked.width} x {asked.height}"),
            ("samples", _or_scene(packed.samples), _or_scene(asked.samples)),
            ("views", _names(packed), _names(asked)),
            ("outputs", ", ".join(packed.outputs), ", ".join(asked.outputs)),
            ("tiles", "{} x {}".format(*packed.tiles), "{} x {}".format(*asked.tiles)),
            ("sample shares", str(packed.shares), str(asked.shares)),
        ]
        found += [Difference(what=what, packed=old, asked=new) for what, old, new in rows if old != new]
    for what, value in (("file format", options.format), ("compression", options.compression)):
        if value is not None:
            own = {
                output.format if what == "file format" else output.compression for output in content.essentials.outputs
            }
            found.append(Difference(what=what, packed=", ".join(sorted(map(str, own))), asked=value))
    return tuple(found)


def _or_scene(samples: int | None) -> str:
    return "the scene's" if samples is None else str(samples)


def _names(request: RenderRequest) -> str:
    names = [view.name for view in request.views]
    shown = ", ".join(names[:6])
    return (f"{shown} and {len(names) - 6} more" if len(names) > 6 else shown) or "the scene as it stands"


def forms_asked(requests: Iterable[RenderRequest], options: SendOptions) -> dict[str, FileForm]:
    """Return by output the file format and compression that is asked for, where one is."""
    if options.format is None and options.compression is None:
        return {}
    form = FileForm(format=options.format, compression=options.compression)
    return {name: form for request in requests for name in request.outputs}


def test_ranges(
    requests: Sequence[RenderRequest], options: SendOptions, tested: Sequence[int]
) -> tuple[TaskRange, ...]:
    """Return the test frames of a job that starts `tested`: those that were said, those tested here, or three.

    Raises WrongUsage for frames that are not among those that are sent.
    """
    found = []
    for request in requests:
        numbers = request.numbers()
        if options.test_frames is not None:
            wanted = parse_frames(options.test_frames)
            strange = next((frame for frame in wanted if frame not in set(numbers)), None)
            if strange is not None:
                raise WrongUsage("a test frame is not among the frames that are sent", strange, request.frames)
        else:
            wanted = tuple(frame for frame in tested if frame in set(numbers))
            row = sorted(numbers)
            wanted = wanted or tuple(dict.fromkeys((row[0], row[len(row) // 2], row[-1])))
        found.append(TaskRange(request=request.name, frames=format_frames(wanted)))
    return tuple(found)


def _ordered(numbers: tuple[int, ...], options: SendOptions, tested: tuple[int, ...]) -> tuple[int, ...]:
    match options.order:
        case FrameOrder.SPREAD:
            return spread(numbers, options.spread or USUAL_SPREAD)
        case FrameOrder.TESTS_FIRST:
            return first(numbers, tested)
        case _:
            return numbers


def _grid(text: str) -> tuple[int, int]:
    match = _GRID.fullmatch(text.replace(" ", ""))
    if match is None:
        raise WrongUsage("not a split into tiles", repr(text[:40]), "write COLUMNSxROWS, such as 4x2")
    return int(match[1]), int(match[2])


def _outputs(request: RenderRequest, names: tuple[str, ...]) -> tuple[str, ...]:
    strange = next((name for name in names if name not in request.outputs), None)
    if strange is not None:
        raise WrongUsage("the crate has no such output", strange, f"it has {', '.join(request.outputs)}")
    return tuple(name for name in request.outputs if name in names)


def _views(survey: Survey, options: SendOptions) -> tuple[View, ...]:
    """The views that are asked for: each camera with each choice of variants; empty for none."""
    cameras = tuple(_camera(survey, name) for name in options.cameras or ())
    looks = tuple(look for text in options.variants or () for look in _looks(survey, text))
    if not cameras and not looks:
        return ()
    if len(cameras) == 1 and not looks:
        return (View(name=_slug(PurePosixPath(cameras[0].path).name), camera=cameras[0].path),)
    pairs = [(camera, look) for camera in cameras or (None,) for look in looks or ((),)]
    if len(pairs) > MOST_VIEWS:
        raise WrongUsage(f"that is {len(pairs)} views, {MOST_VIEWS} is the limit")
    found: dict[str, View] = {}
    for camera, look in pairs:
        parts = ([PurePosixPath(camera.path).name] if camera is not None else []) + [one.choice for one in look]
        name = _free(_slug("-".join(parts)), found)
        found[name] = View(name=name, camera=camera.path if camera is not None else "", variants=look)
    return tuple(found.values())


def _free(name: str, taken: Iterable[str]) -> str:
    number, found = 2, name
    known = set(taken)
    while found in known:
        found, number = f"{name[:36]}-{number}", number + 1
    return found


def _slug(text: str) -> str:
    found = re.sub(r"[^a-z0-9_-]+", "-", text.lower()).strip("-_")[:40]
    return found or "view"


def _camera(survey: Survey, name: str) -> Camera:
    hits = [one for one in survey.cameras if name in (one.path, PurePosixPath(one.path).name)]
    if len(hits) != 1:
        what = "several cameras have that name" if hits else "the scene has no such camera"
        known = ", ".join(one.path for one in (hits or survey.cameras)[:10]) or "none"
        raise WrongUsage(what, name, f"it has {known}")
    return hits[0]


def _looks(survey: Survey, text: str) -> list[tuple[VariantChoice, ...]]:
    """Every combination of choices that a text asks for."""
    found: list[tuple[VariantChoice, ...]] = [()]
    for part in text.split(","):
        prim, _, choice = part.strip().rpartition(":")
        name, equals, wanted = choice.partition("=")
        if not (prim and name and equals and wanted):
            raise WrongUsage("not a choice of a variant", repr(part[:80]), "write PRIM:SET=CHOICE, or PRIM:SET=*")
        known = _variant(survey, prim, name)
        if wanted != "*" and wanted not in known.choices:
            raise WrongUsage(f"the variant set {name} has no such choice", wanted, f"it has {', '.join(known.choices)}")
        choices = known.choices if wanted == "*" else (wanted,)
        found = [(*look, VariantChoice(prim=prim, set=name, choice=one)) for look in found for one in choices]
        if len(found) > MOST_VIEWS:
            raise WrongUsage(f"that is over {MOST_VIEWS} views", repr(text[:80]))
    return found


def _variant(survey: Survey, prim: str, name: str) -> Variant:
    hit = next((one for one in survey.variants if (one.prim, one.set) == (prim, name)), None)
    if hit is None:
        known = ", ".join(f"{one.prim}:{one.set}" for one in survey.variants[:10]) or "none"
        raise WrongUsage("the scene has no such variant set", f"{prim}:{name}", f"it has {known}")
    return hit
