"""C7 versions and features, C9 fonts, against what a farm's nodes have."""

from __future__ import annotations

from collections.abc import Iterator

from tidy_crate.core.check.finding import Next, OnFarm, Severity, Trouble, farm_check
from tidy_crate.core.farm.card import Program
from tidy_crate.core.patterns import matches
from tidy_crate.core.scene.model import Feature, Software
from tidy_crate.core.versions import NotComparable, Version, parse_version

OPEN_FORMATS = ("openusd", "gltf")


@farm_check("farm-programs-unknown", Severity.NOTE, "C7", Next.FARM)
def farm_programs_unknown(on: OnFarm) -> Iterator[Trouble]:
    """The farm does not list its programs, so it is unknown if it can open the scene."""
    if not on.card.program and on.survey.software:
        names = ", ".join(f"{one.name} {one.version}" for one in on.survey.software)
        yield Trouble(on.card.name, f"its card lists no programs; the scene needs {names}", "ask, and note it there")


@farm_check("program-not-offered", Severity.ERROR, "C7")
def program_not_offered(on: OnFarm) -> Iterator[Trouble]:
    """The farm does not offer this program or plug-in: nothing renders, or its part is missing."""
    for one in on.survey.software:
        # a scene in an open format is rendered without the program that wrote it
        needed = one.role != "host" or on.survey.format not in OPEN_FORMATS
        if needed and _is_listed(on, one.role) and on.card.program_called(one.name) is None:
            yield Trouble(f"{one.name} {one.version}", f"it offers no such {one.role}", "another farm, or ask for it")


@farm_check("version-lacks-feature", Severity.ERROR, "C7")
def version_lacks_feature(on: OnFarm) -> Iterator[Trouble]:
    """All versions that the farm offers are older than a feature of the scene: it is missing in the picture."""
    for program in on.card.program:
        for feature, since in _features(on, program):
            if _all_older(program, since):
                yield Trouble(
                    f"{program.name} {feature.name}", f"it came with {since}, the farm has {program.offered}",
                    "do without it, or take a farm with a newer version",
                )  # fmt: skip


@farm_check("version-newer", Severity.WARNING, "C7", Next.DECIDE)
def version_newer(on: OnFarm) -> Iterator[Trouble]:
    """The farm's program is older than the scene's. Usually that is harmless; look at the first frames."""
    for one, program, version in _versions(on):
        if _all_older(program, version) and not any(_all_older(program, since) for _, since in _features(on, program)):
            used = [feature.name for feature, _ in _features(on, program)]
            why = (
                f"what is in use of its features came earlier: {', '.join(used)}"
                if used
                else "no feature in use is known as newer"
            )
            yield Trouble(
                f"{one.name} {one.version}", f"newer than its {program.offered}; {why}", "render a test frame there"
            )


@farm_check("version-older", Severity.WARNING, "C7", Next.DECIDE)
def version_older(on: OnFarm) -> Iterator[Trouble]:
    """The farm's program is newer than the scene's, and may render it slightly differently."""
    for one, program, version in _versions(on):
        if version not in program.offered and not _all_older(program, version):
            yield Trouble(
                f"{one.name} {one.version}", f"not among its {program.offered}", "render a test frame in its version"
            )


@farm_check("version-not-comparable", Severity.WARNING, "C7", Next.DECIDE)
def version_not_comparable(on: OnFarm) -> Iterator[Trouble]:
    """The two versions cannot be compared, so it is unknown which one is newer."""
    for one in on.survey.software:
        program = on.card.program_called(one.name)
        if program is None or one.version in ("", "unknown"):
            continue
        try:
            _ = parse_version(one.version) in program.offered
        except NotComparable as error:
            yield Trouble(f"{one.name} {one.version}", f"against {program.offered}: {error}", "ask the farm")


@farm_check("feature-not-supported", Severity.ERROR, "C7")
def feature_not_supported(on: OnFarm) -> Iterator[Trouble]:
    """No version that the farm offers has this feature: it is missing in every frame."""
    lacks = {name.casefold() for name in on.card.nodes.lacks}
    for feature in on.survey.features:
        if feature.name.casefold() in lacks:
            where = f", used at {feature.where}" if feature.where else ""
            yield Trouble(feature.name, f"its nodes do not have this{where}", "do without it, or take another farm")


@farm_check("feature-required-unknown", Severity.WARNING, "C7", Next.FARM)
def feature_required_unknown(on: OnFarm) -> Iterator[Trouble]:
    """The scene requires a feature that the renderer may not know. It refuses the scene, or renders it wrongly."""
    lacks = {name.casefold() for name in on.card.nodes.lacks}
    known = {name.casefold() for program in on.card.program for name in program.features}
    for feature in on.survey.features:
        if feature.required and feature.name.casefold() not in lacks | known:
            yield Trouble(feature.name, "its card does not say that its programs know this",
                          "ask, and note it there under features or lacks")  # fmt: skip


@farm_check("pass-not-offered", Severity.ERROR, "C7")
def pass_not_offered(on: OnFarm) -> Iterator[Trouble]:
    """The farm's renderer cannot write this pass: it is missing in every frame, which shows after all are paid for."""
    renderers = [one for one in on.card.program if one.role == "renderer"]
    wanted = [one.name for one in on.survey.software if one.role == "renderer"]
    named = [one for one in renderers if any(one.is_called(name) for name in wanted)] or renderers
    if not named or not all(one.passes for one in named):
        return
    known = [like.casefold() for one in named for like in one.passes]
    for output in on.survey.outputs:
        ordered = on.request is None or output.name in on.request.outputs
        for name in output.passes if ordered else ():
            if not any(matches(name.casefold(), like) for like in known):
                yield Trouble(
                    f"{output.name} {name}", f"{' or '.join(one.name for one in named)} there does not write this pass",
                    "leave the pass out, send the output to another farm, or correct `passes` on its card",
                )  # fmt: skip


@farm_check("font-not-on-nodes", Severity.ERROR, "C9")
def font_not_on_nodes(on: OnFarm) -> Iterator[Trouble]:
    """The nodes lack this font. Another one is used without notice, and the text changes."""
    if on.card.nodes.fonts is None:
        return
    there = {name.casefold() for name in on.card.nodes.fonts}
    for name in on.survey.fonts:
        if name.casefold() not in there:
            yield Trouble(name, "its nodes do not have this font", "turn the text into shapes, or have it installed")


@farm_check("fonts-unknown", Severity.NOTE, "C9", Next.FARM)
def fonts_unknown(on: OnFarm) -> Iterator[Trouble]:
    """The farm does not list its fonts, so it is unknown if the text looks the same there."""
    if on.card.nodes.fonts is None and on.survey.fonts:
        yield Trouble(", ".join(on.survey.fonts), "its card lists no fonts", "ask, and note it there")


def _is_listed(on: OnFarm, role: str) -> bool:
    """Return whether the card says anything of programs of a role: of the others it may have any."""
    return any(program.role == role for program in on.card.program)


def _versions(on: OnFarm) -> Iterator[tuple[Software, Program, Version]]:
    """The scene's programs that the farm has, where both versions can be compared."""
    for one in on.survey.software:
        program = on.card.program_called(one.name)
        try:
            if program is not None:
                version = parse_version(one.version)
                _ = version in program.offered
                yield one, program, version
        except NotComparable:
            continue


def _features(on: OnFarm, program: Program) -> Iterator[tuple[Feature, Version]]:
    """The features in use of a program with the version that brought each, by the card, else by the scene."""
    table = {name.casefold(): since for name, since in program.features.items()}
    for feature in on.survey.features:
        own = not feature.software or program.is_called(feature.software)
        since = table.get(feature.name.casefold()) or (feature.since if feature.software else None)
        if own and since:
            try:
                yield feature, parse_version(since)
            except NotComparable:
                continue


def _all_older(program: Program, version: Version) -> bool:
    try:
        return program.offered.all_older(version)
    except NotComparable:
        return False
