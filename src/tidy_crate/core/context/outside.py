"""Files that may leave this machine with a scene: those of the project, and those that the user has allowed.

A scene can name any file of this machine as a texture, directly or through a link. Before anything is collected every
file is looked at: where it really is, whether it looks private, and whether it is of the kind that its name says.
"""

from __future__ import annotations

import os
import re
import shlex
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from enum import StrEnum
from pathlib import Path

from tidy_crate.core.asset.head import Head, expected, read_head
from tidy_crate.core.asset.sequences import STANDARD
from tidy_crate.core.context.project import FILE_NAME
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.errors import Blocked
from tidy_crate.core.scene.staging import Relink
from tidy_crate.core.work.trust import FILE, FILES, Claim, NotTrusted

# names under which keys and passwords are kept
_SECRET_NAME = re.compile(
    r"id_(rsa|dsa|ecdsa|ed25519)(_sk)?(\.pub)?|authorized_keys|known_hosts|g?shadow|passwd|htpasswd|sudoers"
    r"|(credentials|secrets?)(\.(json|ya?ml|toml|ini|txt|xml|csv|cfg))?"
    r"|\.(env|netrc|npmrc|pypirc|pgpass|git-credentials|htpasswd|dockercfg|[a-z]*_history)(\..*)?"
    r"|.*\.(pem|key|ppk|p12|pfx|jks|keystore|kdbx?|gpg|asc|ovpn|token|env|rdp)",
    re.IGNORECASE,
)
# formats of the trade that have no signature of their own
_UNSIGNED = frozenset({
    "ass", "bgeo", "bin", "bsdf", "cdl", "chan", "cin", "clf", "csp", "ctf", "cube", "dae", "dpx", "fbx", "gltf",
    "iff", "ies", "icc", "ico", "json", "look", "lut", "mdl", "mtl", "mtlx", "obj", "ocio", "osl", "oso", "pal",
    "pcd", "pic", "ply", "psd", "ptex", "ptx", "rat", "rib", "sc", "sgi", "spi1d", "spi3d", "stl", "svg", "tga",
    "txt", "vf", "wav", "xml", "yaml", "3dl",
})  # fmt: skip
MOST_TOLD = 12
MOST_OPTIONS = 3
# parts of a folder's path below which it is too much to agree to
FEWEST_PARTS = 2
# the number of a file of a sequence: the last one of its name
_DIGITS = re.compile(r"\d+(?=[^\d]*$)")


class Reason(StrEnum):
    """Reason why a file is held back."""

    OUTSIDE = "outside"
    """It is in a folder that the project's files do not come from."""
    PRIVATE = "private"
    """It is in a hidden folder, or looks like a key or a password."""
    KIND = "kind"
    """It is not what the scene takes it for."""


@dataclass(frozen=True)
class Held:
    """A file that stays here until the user agrees."""

    path: Path
    """As the scene finds it."""
    real: Path
    """Its real path, without links."""
    reason: Reason
    detail: str
    """In plain words."""


@dataclass(frozen=True)
class Gathered:
    """Files that are held back for one reason: a file, a sequence, or all of a folder outside of the project."""

    path: str
    """The file, the pattern of the sequence, or the folder."""
    reason: Reason
    detail: str
    held: tuple[Held, ...]

    def __str__(self) -> str:
        many = f" ({len(self.held)} files)" if len(self.held) > 1 else ""
        return f"{self.path}{many}: {self.detail}"


def gather(held: Iterable[Held]) -> list[Gathered]:
    """Return files that are held back with those together that one line can say, in the order of the first of each."""
    groups: dict[tuple[str, str, Reason, str], list[Held]] = {}
    for one in held:
        outside = one.reason is Reason.OUTSIDE
        shape = "" if outside else _DIGITS.sub(lambda match: "#" * len(match[0]), one.real.name)
        groups.setdefault((str(one.real.parent), shape, one.reason, one.detail), []).append(one)
    found = []
    for (folder, shape, reason, detail), own in groups.items():
        alone = own[0].real
        path = str(alone) if len(own) == 1 else str(Path(folder, shape)) if shape else folder
        found.append(Gathered(path, reason, detail, tuple(own)))
    return found


def _common(folders: list[str]) -> str | None:
    """Return the folder that holds some folders; None where that is a disk or somebody's whole home."""
    try:
        found = Path(os.path.commonpath(folders)) if folders else None
    except ValueError:
        return None  # on several drives
    if found is None or len(found.parts) <= FEWEST_PARTS or found in (Path.home(), *Path.home().parents):
        return None
    return str(found)


class HeldBack(Blocked):
    """Files of a scene may not travel yet."""

    def __init__(self, scene: Path, held: tuple[Held, ...]) -> None:
        folders = sorted({str(one.real.parent) for one in held if one.reason is Reason.OUTSIDE})
        gathered = gather(held)
        named = sorted({one.path for one in gathered if one.reason is not Reason.OUTSIDE})
        count = f"{len(held)} files" if len(held) > 1 else "a file"
        # one line settles all of several folders
        common = _common(folders) if len(folders) > 1 else None
        options = [f"--from-outside {shlex.quote(one)}" for one in ([common] if common else folders[:MOST_OPTIONS])]
        options += [f"--let-through {shlex.quote(one)}" for one in named[:MOST_OPTIONS]]
        ends = " ..." if max(0 if common else len(folders), len(named)) > MOST_OPTIONS else ""
        line = f"tidy-crate collect {shlex.quote(str(scene))} {' '.join(options)}{ends}"
        remedy = f"take it out of the scene, or agree: {line}"
        project = _common([str(scene.parent), *folders]) if folders else None
        if project and not named:
            remedy += f"; or make {project} the project, by a file {FILE_NAME} in it"
        super().__init__(f"the scene names {count} that may not leave this machine unasked", scene, remedy)
        self.held = held
        outside = [one for one in held if one.reason is Reason.OUTSIDE]
        lines = [str(one) for one in gathered if not (common and one.reason is Reason.OUTSIDE)]
        if common and outside:
            where = f" in {len(folders)} folders" if len(folders) > 1 else ""
            lines.insert(0, f"{common} ({len(outside)} files{where}): {outside[0].detail}")
        more = [f"and {len(lines) - MOST_TOLD + 1} more"] if len(lines) > MOST_TOLD else []
        self.said = tuple(lines[: MOST_TOLD - len(more)] + more)
        self.folders = tuple(Path(folder) for folder in folders)


@dataclass
class Border:
    """Decides what may leave."""

    root: Path
    """The project's folder, or the scene's own."""
    allowed: tuple[Path, ...] = ()
    """Other folders that files may come from."""
    agreed: Callable[[tuple[str, ...]], bool] = lambda _: False
    """Tells if the user has agreed to a claim."""
    look: Callable[[str], Head] = read_head
    """Reads the first bytes of a file."""
    seen: Callable[[Path], bool] = lambda _: False
    """True if a file was looked into before, and has not changed since."""
    _folders: dict[str, tuple[str, str | None, str | None]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._bases = [os.path.realpath(folder) for folder in (self.root, *self.allowed)]

    def held(self, files: Iterable[Path]) -> tuple[Held, ...]:
        """Return those of these files that may not leave, in order."""
        return tuple(one for path in files if (one := self._judge(path)) is not None)

    def _judge(self, path: Path) -> Held | None:
        # by text: asked of every file of a scene
        folder, authored = os.path.split(str(path))
        name = authored
        if os.path.islink(path):  # noqa: PTH114
            folder, name = os.path.split(os.path.realpath(path))
        real_folder, base, hidden = self._folder(folder)
        inside = base is not None
        found = self._private(name, hidden)
        if found is None and not self.seen(path):
            found = self._kind(os.path.join(real_folder, name), authored, inside)  # noqa: PTH118
        if found is None and inside:
            return None
        real = Path(real_folder, name)
        if found is not None and self.agreed((f"{FILE}:", str(real))):
            return None
        reason, detail = found or (Reason.OUTSIDE, f"it is outside of {self.root}")
        return Held(path, real, reason, detail)

    def _folder(self, folder: str) -> tuple[str, str | None, str | None]:
        """Return where a folder really is, the folder around it that files may come from, and a hidden one on the
        way.
        """
        found = self._folders.get(folder)
        if found is None:
            real = os.path.realpath(folder)
            around = [base for base in self._bases if _is_in(real, base)]
            base = max(around, key=len) if around else self._agreed_around(real)
            below = Path(real).relative_to(base).parts if base is not None else Path(real).parts
            hidden = next((part for part in below if part.startswith(".") and part not in (".", "..")), None)
            found = self._folders[folder] = (real, base, hidden)
        return found

    def _agreed_around(self, real: str) -> str | None:
        around = (str(folder) for folder in (Path(real), *Path(real).parents))
        return next((folder for folder in around if self.agreed((f"{FILES}:", folder))), None)

    @staticmethod
    def _private(name: str, hidden: str | None) -> tuple[Reason, str] | None:
        if hidden is not None:
            return Reason.PRIVATE, f"it is in the hidden folder {hidden}"
        if _SECRET_NAME.fullmatch(name):
            return Reason.PRIVATE, "its name is one for keys or passwords"
        return None

    def _kind(self, real: str, name: str, inside: bool) -> tuple[Reason, str] | None:
        wanted = expected(name)
        known = inside or bool(wanted) or name.rpartition(".")[2].lower() in _UNSIGNED
        try:
            head = self.look(real)
        except OSError:
            return None  # said elsewhere, and it cannot be copied either
        if head.is_key:
            return Reason.PRIVATE, "it begins like a private key"
        if not known:
            return Reason.KIND, "it is of no kind that scenes name"
        excused = head.is_empty or head.is_picture or head.placeholder is not None
        if wanted and head.kind not in wanted and not excused:
            return Reason.KIND, f"it does not begin like {' or '.join(sorted(wanted))}"
        return None


def border_of(
    context: SceneContext, allowed: Iterable[Path] = (), seen: Callable[[Path], bool] = lambda _: False
) -> Border:
    """Return the border of a scene. allowed: more folders that files may come from, beside what is agreed."""
    return Border(context.root, (context.tidy, *allowed), context.trust.of((context.root,)), seen=seen)


def folder_claim(folder: Path | str, origin: str = "") -> Claim:
    """The claim to bring files from a folder."""
    return Claim(FILES, (os.path.realpath(folder),), origin)


def file_claims(text: Path | str) -> list[Claim]:
    """Return the claims to bring a file that would be held back, or all files of a pattern such as `smoke.####.vdb`."""
    path = Path(text)
    if path.exists() or not STANDARD.find(path.name):
        return [file_claim(path)]
    try:
        names = [one.name for one in path.parent.iterdir()]
    except OSError:
        names = []
    return [file_claim(path.parent / name) for name in STANDARD.members(path.name, names)] or [file_claim(path)]


def file_claim(file: Path | str, origin: str = "") -> Claim:
    """The claim to bring one file that would be held back."""
    return Claim(FILE, (os.path.realpath(file),), origin)


def claims_outside(context: SceneContext) -> list[Claim]:
    """Return the folders outside the project that its own files name as sources of files."""
    project, root = context.project, os.path.realpath(context.root)
    named = [(folder, FILE_NAME) for folder in project.roots.values()]
    named += [(folder, FILE_NAME) for folder in project.search_paths]
    decided = (edit for edit in context.plan.edits if isinstance(edit, Relink))
    named += [(edit.to if edit.folder else edit.to.parent, context.file.path.name) for edit in decided]
    claims = [folder_claim(folder, origin) for folder, origin in named]
    try:
        context.file.may_write()
    except NotTrusted as error:
        claims += error.commands
    return [one for one in dict.fromkeys(claims) if not _is_in(one.words[0], root)]


def _is_in(path: str, folder: str) -> bool:
    return path == folder or path.startswith(folder if folder.endswith(os.sep) else folder + os.sep)
