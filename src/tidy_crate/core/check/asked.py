"""A crate's scene as a submission asks for it: another size, camera, format than it was packed with."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

from tidy_crate.core.check.finding import Finding, Severity
from tidy_crate.core.scene.model import Output, Survey
from tidy_crate.core.work.request import RenderRequest

BRIEF = "brief-"


@dataclass(frozen=True)
class Asked:
    """The wishes of a submission for a crate."""

    requests: tuple[RenderRequest, ...]
    formats: Mapping[str, str] = field(default_factory=dict)
    """By output, another file format."""
    compressions: Mapping[str, str] = field(default_factory=dict)
    """By output, another compression."""


def as_asked(survey: Survey, asked: Asked) -> Survey:
    """Return a survey with the size, samples, outputs and forms that are asked for."""
    request = next(iter(asked.requests), None)
    if request is None:
        return survey
    resolution = survey.resolution
    update: dict[str, object] = {}
    if resolution is not None and (request.width, request.height) != resolution.rendered:
        update["resolution"] = resolution.model_copy(
            update={"width": request.width, "height": request.height, "scale": 1.0}
        )
    if request.samples is not None:
        update["canonical"] = survey.canonical | {"samples": request.samples}
    cameras = {view.camera for view in request.views if view.camera}
    outputs = tuple(_output(one, request, asked, cameras) for one in survey.outputs if one.name in request.outputs)
    return survey.model_copy(update=update | {"outputs": outputs})


def _output(output: Output, request: RenderRequest, asked: Asked, cameras: set[str]) -> Output:
    update: dict[str, object] = {}
    if output.resolution is not None and output.resolution.rendered != (request.width, request.height):
        size = {"width": request.width, "height": request.height, "scale": 1.0}
        update["resolution"] = output.resolution.model_copy(update=size)
    if output.name in asked.formats:
        update["format"] = asked.formats[output.name]
        stem, dot, _ = output.path.rpartition(".")
        update["path"] = f"{stem}{dot}{asked.formats[output.name]}" if dot else output.path
    if output.name in asked.compressions:
        update["compression"] = asked.compressions[output.name]
    if cameras:
        update["camera"] = min(cameras)
    return output.model_copy(update=update) if update else output


def eased(asked: tuple[Finding, ...], packed: tuple[Finding, ...]) -> Iterator[Finding]:
    """Yield the findings of what is asked. Where only the wish itself differs from the brief, it is no error.

    An order for half the size of a crate that was packed as ordered is meant.
    """
    known = {(one.code, one.subject) for one in packed}
    for one in asked:
        if one.severity is Severity.ERROR and one.code.startswith(BRIEF) and (one.code, one.subject) not in known:
            yield one.model_copy(update={"severity": Severity.WARNING, "message": f"as asked here: {one.message}"})
        else:
            yield one


def not_covered(survey: Survey, asked: Asked) -> Iterator[str]:
    """Yield the caches that do not reach over all frames that are asked for, in plain words."""
    frames = [frame for request in asked.requests for frame in request.numbers()]
    if not frames:
        return
    for simulation in survey.simulations:
        if simulation.covers is not None and not (
            simulation.covers[0] <= min(frames) and max(frames) <= simulation.covers[1]
        ):
            first, last = simulation.covers
            asked_for = f"{min(frames)}-{max(frames)}"
            yield f"the cache of {simulation.name} covers {first:g}-{last:g}, the frames are {asked_for}"
