"""Scenes: survey, bake, relink, and the trust in a project."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from tidy_crate.api.user import User
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.progress import Progress, silent

if TYPE_CHECKING:
    from tidy_crate.core.bake.plan import PlannedBake
    from tidy_crate.core.bake.proof import OrderProof
    from tidy_crate.core.bake.run import BakeResult
    from tidy_crate.core.bake.verify import VerifiedCache
    from tidy_crate.core.context.relink import Proposal
    from tidy_crate.core.context.scene import SceneContext
    from tidy_crate.core.scene.model import Asset, Survey
    from tidy_crate.core.work.covered import Covered
    from tidy_crate.core.work.running import Commands
    from tidy_crate.core.work.trust import Claim


def open_scene(scene: Path, *, tidy_dir: Path | None = None, user: User | None = None) -> SceneContext:
    """Open a scene with its format, project, decisions and caches. tidy_dir: where decisions and caches are."""
    from tidy_crate.core.context.scene import open_scene as core

    user = user or User.here()
    return core(scene, tidy_dir, user.survey_cache_of(scene), user.trust, user.for_programs())


def survey(scene: Path, *, as_saved: bool = False, tidy_dir: Path | None = None, user: User | None = None) -> Survey:
    """Return what is in a scene as it would be staged now, or as the artist saved it."""
    context = open_scene(scene, tidy_dir=tidy_dir, user=user)
    return context.survey_as_found() if as_saved else context.survey()


def bake(
    scene: Path,
    only: Iterable[str] = (),
    *,
    again: bool = False,
    tidy_dir: Path | None = None,
    user: User | None = None,
    progress: Progress = silent,
) -> BakeResult:
    """Write simulations into caches; what is up to date is skipped unless `again`. only: by name."""
    from tidy_crate.core.bake.run import bake as core
    from tidy_crate.core.crate.staged_copy import staged_copy

    context = open_scene(scene, tidy_dir=tidy_dir, user=user)
    return core(context, only, again, progress, staged_copy=staged_copy)


def plan_bake(
    scene: Path, only: Iterable[str] = (), *, tidy_dir: Path | None = None, user: User | None = None
) -> tuple[PlannedBake, ...]:
    """Return what a bake would do, in its order. Nothing is written."""
    from tidy_crate.core.bake.plan import plan_bake as core

    return core(open_scene(scene, tidy_dir=tidy_dir, user=user), tuple(only))


def verify_caches(scene: Path, *, tidy_dir: Path | None = None, user: User | None = None) -> tuple[VerifiedCache, ...]:
    """Look at every cache of a scene, down to its bytes."""
    from tidy_crate.core.bake.verify import verify_caches as core

    return core(open_scene(scene, tidy_dir=tidy_dir, user=user))


def prove_order(
    scene: Path,
    batch: int = 2,
    *,
    tidy_dir: Path | None = None,
    user: User | None = None,
    progress: Progress = silent,
) -> OrderProof:
    """Show that frames come out the same in any order. batch: frames that a node takes at a time."""
    from tidy_crate.core.bake.proof import prove_order as core

    return core(open_scene(scene, tidy_dir=tidy_dir, user=user), batch, progress)


@dataclass(frozen=True)
class Relinked:
    """Proposals and decisions of a relink."""

    proposals: tuple[Proposal, ...]
    applied: tuple[Proposal, ...]
    """Written into the decisions."""
    still_missing: tuple[Asset, ...]
    decisions: Path
    """The decisions file."""
    live: bool = False
    """True if the scene has simulations that are not cached."""


# chooses among proposals, given everything that is missing
Choose = Callable[[tuple["Proposal", ...], "list[Asset]"], "tuple[Proposal, ...]"]


def relink(
    scene: Path,
    look_in: Sequence[Path] = (),
    maps: Sequence[tuple[str, str]] = (),
    *,
    apply: bool = False,
    by: str = "",
    choose: Choose | None = None,
    tidy_dir: Path | None = None,
    user: User | None = None,
) -> Relinked:
    """Propose files for what is missing, and with `apply` or `choose` write decisions.

    look_in: folders to search. maps: pairs of an old prefix and what takes its place. choose: asked to choose.
    by: who decides, for the record, where it is no person.
    """
    from tidy_crate.core.context import relink as core
    from tidy_crate.core.context.outside import folder_claim
    from tidy_crate.core.crate.collect_cache import collected_contents
    from tidy_crate.core.scene.model import SimulationState

    user = user or User.here()
    context = open_scene(scene, tidy_dir=tidy_dir, user=user)
    found = context.survey()
    lacking = core.missing(found)
    proposals = core.propose(found, look_in, maps, collected_contents(context.tidy))
    chosen = choose(proposals, lacking) if choose else proposals
    applied = core.apply_relinks(context, chosen, found, by) if apply or choose else ()
    if applied:
        # taking a file from a folder is agreement to that folder
        user.trust.add(context.root, {folder_claim(one.candidate.parent) for one in applied})
    # what was found may name files of its own that are missing, and may be part of a set only
    after = open_scene(scene, tidy_dir=tidy_dir, user=user).survey() if applied else found
    still = core.missing(after) if applied else lacking
    live = any(one.state is not SimulationState.CACHED for one in after.simulations)
    return Relinked(tuple(proposals), tuple(applied), tuple(still), context.file.path, live)


def let_go(scene: Path, asset: str, because: str, *, tidy_dir: Path | None = None, user: User | None = None) -> None:
    """Decide to do without a missing file, by id or path as written, for a reason."""
    from tidy_crate.core.context import relink as core

    if not because.strip():
        raise WrongUsage("a file is let go with a reason", asset, 'add --because "..."')
    context = open_scene(scene, tidy_dir=tidy_dir, user=user)
    core.let_go(context, context.survey(), asset, because)


@dataclass(frozen=True)
class Trusting:
    """The commands of a folder, and whether they may run."""

    folder: Path
    """The folder that is trusted, or not."""
    claims: tuple[Claim, ...]
    trusted: tuple[bool, ...]
    """For each command."""
    covered: tuple[Covered, ...]
    """For each command, the parts of the folder that belong to it; nothing for a path."""


def commands_of(target: Path, *, user: User | None = None) -> Trusting:
    """Return the commands that a scene, a crate, an archive of one, or all scenes of a folder name."""
    from tidy_crate.core.crate.commands import commands_in
    from tidy_crate.core.work.covered import Covered, covered

    user = user or User.here()
    found = commands_in(target.absolute(), user.trust, user.origin_of)
    holds, folder = user.trust.of(found.folders), Path(os.path.realpath(found.folders[0]))
    return Trusting(
        found.folders[0],
        found.claims,
        tuple(holds(one.mark_words) for one in found.claims),
        tuple(covered(one.words, folder) if one.is_command else Covered() for one in found.claims),
    )


def trust(target: Path, *, user: User | None = None) -> Trusting:
    """Let the commands run that a folder names now. One that changes later has to be trusted again."""
    user = user or User.here()
    found = commands_of(target, user=user)
    user.trust.add(found.folder, found.claims)
    return commands_of(target, user=user)


def trust_commands(folder: Path, commands: Iterable[Claim], *, user: User | None = None) -> None:
    """Let these commands of a folder run, as named by NotTrusted."""
    (user or User.here()).trust.add(folder, commands)


def distrust(target: Path, *, user: User | None = None) -> bool:
    """Let no command of a folder run any more. Return whether any was trusted."""
    user = user or User.here()
    return user.trust.remove(commands_of(target, user=user).folder)


def own_commands(crate: Path, user: User) -> Commands:
    from tidy_crate.core.crate.commands import crate_commands

    return crate_commands(crate.absolute(), user.trust, user.origin_of, user.for_programs())
