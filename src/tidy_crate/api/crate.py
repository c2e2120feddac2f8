"""Crates: collect, archive, prove."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from tidy_crate.api.scene import open_scene, own_commands
from tidy_crate.api.user import User
from tidy_crate.core.errors import TidyCrateError, WrongUsage
from tidy_crate.core.files import write_bytes
from tidy_crate.core.progress import Progress, silent

if TYPE_CHECKING:
    from tidy_crate.core.context.scene import SceneContext
    from tidy_crate.core.crate.collect import CollectResult
    from tidy_crate.core.crate.proving import Proof


def unsolved(crate: Path) -> tuple[str, ...]:
    """Return what the bakes of a crate's simulations could not solve, by prim; nothing for an archive."""
    from tidy_crate.core.crate.packing import read_packing_list

    if not crate.is_dir():
        return ()
    return tuple(line for edit in read_packing_list(crate).edits for line in edit.unsolved)


def collect(
    scene: Path,
    crate: Path | None = None,
    *,
    frames: str | None = None,
    using: str = "copy",
    needed_frames_only: bool = False,
    on_share: Sequence[str] = (),
    from_outside: Sequence[Path] = (),
    let_through: Sequence[Path] = (),
    replace: bool = False,
    camera: str | None = None,
    size: tuple[int, int] | None = None,
    products: Mapping[str, str] | None = None,
    passes: Mapping[str, Sequence[str]] | None = None,
    tidy_dir: Path | None = None,
    user: User | None = None,
    progress: Progress = silent,
) -> CollectResult:
    """Copy the staged scene and every file it names into one folder. Originals are only read.

    frames: a frame list, the scene's own range when None. using: `copy`, `reflink` or `hard-link`.
    on_share: `LOCAL=NODE` each, for shared storage. from_outside: folders outside the project that its files may come
    from, from now on. let_through: files that would be held back as private or of another kind.
    replace: whether the crate may be that of another scene, which is then lost.
    camera, size (pixels), products (path by name), passes (by name of their product): what is to be rendered, written
    into the scene's decisions for all later commands; frames too, for a scene that states no range of its own.
    Raises HeldBack, WrongUsage.
    """
    from tidy_crate.core.asset.paths import crate_name
    from tidy_crate.core.context.outside import file_claims, folder_claim
    from tidy_crate.core.crate import collect as core
    from tidy_crate.core.crate.copying import Way
    from tidy_crate.core.crate.shared import read_share
    from tidy_crate.core.scene.request import request_for

    if using not in list(Way):
        raise WrongUsage("unknown way to copy files", using, f"use one of {', '.join(Way)}")
    user = user or User.here()
    context = open_scene(scene, tidy_dir=tidy_dir, user=user)
    if from_outside or let_through:
        user.trust.add(
            context.root,
            [*map(folder_claim, from_outside), *(claim for one in let_through for claim in file_claims(one))],
        )
    context = _ordered(context, frames, camera, size, products or {}, passes or {})
    requests = () if frames is None else (request_for(context.survey(), frames=frames),)
    target = crate or context.scene.with_name(crate_name(context.scene.name))
    return core.collect(
        context,
        target,
        requests,
        progress,
        way=Way(using),
        needed_frames_only=needed_frames_only,
        shares=[read_share(text) for text in on_share],
        origin=user.origin_of(target),
        replace=replace,
    )


def _ordered(
    context: SceneContext,
    frames: str | None,
    camera: str | None,
    size: tuple[int, int] | None,
    products: Mapping[str, str],
    passes: Mapping[str, Sequence[str]],
) -> SceneContext:
    """Write what is ordered from outside of a scene into its decisions, and return the scene with it."""
    table: dict[str, Any] = {}
    if frames is not None and not context.survey().frames.count:
        table["frames"] = frames
    if camera is not None:
        table["camera"] = camera
    if size is not None:
        table["resolution"] = list(size)
    for name in dict.fromkeys([*products, *passes]):
        own: dict[str, object] = {"path": products[name]} if products.get(name) else {}
        own |= {"passes": list(passes[name])} if name in passes else {}
        table.setdefault("output", {})[name] = own
    return order(context, table) if table else context


def order(context: SceneContext, table: Mapping[str, Any]) -> SceneContext:
    """Write what is to be rendered into a scene's decisions, and return the scene with it.

    table: as `render` of the decisions. What makes no sense is not kept: the error is raised.
    """
    before = context.file.path.read_bytes() if context.file.path.exists() else None
    try:
        plain = {name: value for name, value in table.items() if name != "output"}
        if plain:
            context.file.set(("render",), plain)
        for name, own in table.get("output", {}).items():
            context.file.set(("render", "output", name), own)
        found = context.with_decisions_of_now()
        found.survey()
    except TidyCrateError:
        # what makes no sense is not kept
        if before is None:
            context.file.path.unlink(missing_ok=True)
        else:
            write_bytes(context.file.path, before)
        raise
    return found


def archive(crate: Path, file: Path, progress: Progress = silent) -> int:
    """Write a crate as one file, `.zip` or `.tar.zst`, and return its bytes."""
    from tidy_crate.core.crate.archive import write_archive

    return write_archive(crate, file.absolute(), progress)


def prove(crate: Path, *, frame: int | None = None, test: bool = True, user: User | None = None) -> Proof:
    """Show that a crate, or an archive of one, is complete with no way back to the originals.

    frame: the test frame, the middle one when None. test: whether to render one.
    """
    from datetime import UTC, datetime

    from tidy_crate.core.crate.archive import unpacked
    from tidy_crate.core.crate.packing import read_packing_list
    from tidy_crate.core.crate.proof_note import note_proof
    from tidy_crate.core.crate.prove import prove as core

    user = user or User.here()
    commands = own_commands(crate, user)
    with unpacked(crate.absolute()) as folder:
        # what an archive was unpacked to is gone in a moment
        stays = folder == crate.absolute()
        content = read_packing_list(folder)
        proof = core(folder, user.environment, commands, frame, test=test, keep=stays)
        if stays:
            note_proof(user.proof_of(folder), content, proof, datetime.now(UTC))
        return proof
