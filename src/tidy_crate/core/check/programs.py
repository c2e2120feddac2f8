"""C7: programs, what they are asked for, and code that runs when a scene opens."""

from __future__ import annotations

from collections.abc import Iterator

from tidy_crate.core.check.finding import Checked, Next, Severity, Trouble, check

SCRIPT_ENDINGS = (".py", ".lua", ".js", ".tcl", ".sh", ".bat", ".ps1", ".vbs")


@check("program-version-unknown", Severity.NOTE, "C7", Next.DECIDE)
def program_version_unknown(scene: Checked) -> Iterator[Trouble]:
    """The scene does not state the version of this program, so it cannot be compared with the farm's."""
    for one in scene.survey.software:
        if one.version in ("", "unknown"):
            yield Trouble(one.name, f"the scene does not say which version of this {one.role}", "ask who made it")


@check("feature-experimental", Severity.WARNING, "C7", Next.DECIDE)
def feature_experimental(scene: Checked) -> Iterator[Trouble]:
    """The makers call this feature experimental: it may look different in the next version or on another machine."""
    for one in scene.survey.features:
        if one.experimental:
            where = f" at {one.where}" if one.where else ""
            yield Trouble(
                one.name, f"experimental in {one.software or 'this format'}{where}", "do without it, or waive"
            )


@check("scene-runs-script", Severity.WARNING, "C7", Next.DECIDE)
def scene_runs_script(scene: Checked) -> Iterator[Trouble]:
    """Many farms do not run scripts. What this one does when the scene opens is then missing."""
    for name in scene.survey.scripts:
        yield Trouble(name, "it runs code when the scene opens", "bake what it does into plain data, or waive")
    for asset in scene.survey.assets:
        if asset.needed and asset.value.lower().endswith(SCRIPT_ENDINGS):
            yield Trouble(asset.authored, "the scene names a script", "bake what it does into plain data, or waive")


@check("material-of-other-renderer", Severity.ERROR, "C7")
def material_of_other_renderer(scene: Checked) -> Iterator[Trouble]:
    """The selected renderer cannot read this material: it renders grey, black or not at all."""
    reads = {one.casefold() for one in scene.survey.material_contexts}
    for one in scene.survey.materials if reads else ():
        if not reads & {context.casefold() for context in one.contexts}:
            made_for = " and ".join(one.contexts)
            yield Trouble(
                one.name, f"made for {made_for}, the scene renders with {scene.survey.renderer}", "convert it"
            )


@check("prim-type-unknown", Severity.WARNING, "C7", Next.DECIDE)
def prim_type_unknown(scene: Checked) -> Iterator[Trouble]:
    """This prim type comes from a plug-in. On a node without the plug-in it is not rendered."""
    for name, where in scene.survey.unknown_types.items():
        yield Trouble(where, f"{name} is a type that no schema here knows", "make sure the nodes have its plug-in")
