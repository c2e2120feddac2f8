"""Path dialects: what a path written in a scene means, whatever system it was written on.

Pure functions on text; nothing here looks at a disk.
"""

from __future__ import annotations

import posixpath
import re
import unicodedata
from enum import StrEnum
from functools import lru_cache
from pathlib import PurePosixPath
from urllib.parse import unquote, urlsplit


class Dialect(StrEnum):
    """The ways a path can be written."""

    EMPTY = "empty"
    RELATIVE = "relative"  # ./a or ../a, or a\b: from the file that names it
    SEARCH = "search"  # a/b: from the file that names it, then along the search path
    POSIX = "posix"  # /a/b
    DRIVE = "drive"  # C:\a, C:/a, C:a or \\?\C:\a
    SHARE = "share"  # \\server\share\a or //server/share/a
    FILE_URL = "file url"  # file:///a
    URL = "url"  # https://…, a web address
    IDENTIFIER = "identifier"  # asset:…, for a resolver of a studio's own
    PACKAGED = "packaged"  # a.usdz[b.png]
    EXPRESSION = "expression"  # `"${SHOT}/a.png"`


_ABSOLUTE = (Dialect.POSIX, Dialect.DRIVE, Dialect.SHARE, Dialect.FILE_URL, Dialect.URL, Dialect.IDENTIFIER)
# a scheme has two letters at least; what follows a drive at once is from the folder that is open on it
_DRIVE = re.compile(r"[A-Za-z]:")
# in front of a path that Windows is to take as it is, however long
_VERBATIM = re.compile(r"[\\/]{2}\?[\\/](?:(?P<share>UNC)[\\/])?", re.IGNORECASE)
_SCHEME = re.compile(r"[A-Za-z][A-Za-z0-9+.-]+:")
_WEB = re.compile(r"(https?|ftps?|wss?|s3|gs|data):", re.IGNORECASE)
# $ROOT/a, ${ROOT}/a, %ROOT%/a and ~/a: filled in by a shell or a host, never by a renderer
ARGUMENTS = ":SDF_FORMAT_ARGS:"
_VARIABLE = re.compile(r"\$\{[A-Za-z_]\w*\}|\$[A-Za-z_]\w*|%[A-Za-z_]\w*%|^~\w*(?=[\\/])")
# what some system that a farm may run does not take in a file name
_FORBIDDEN = re.compile(r'[<>:"|?*\\\x00-\x1f\x7f]')
_RESERVED = re.compile(r"(?i)(con|prn|aux|nul|com[1-9]|lpt[1-9])(\..*)?")
_PLAIN = re.compile(r"[A-Za-z0-9_-][A-Za-z0-9_.-]{0,198}[A-Za-z0-9_-]|[A-Za-z0-9_-]")
VERSION_TOKEN = re.compile(r"[._-]?v\d{1,6}(?=$|[._-])", re.IGNORECASE)


def without_arguments(text: str) -> str:
    """Return a path without the arguments for the reader of its format (`a.usda:SDF_FORMAT_ARGS:x=1`)."""
    return text.partition(ARGUMENTS)[0] if ARGUMENTS in text else text


def arguments(text: str) -> str:
    """Return what `without_arguments` takes away."""
    _, mark, tail = text.partition(ARGUMENTS)
    return mark + tail


def split_package(text: str) -> tuple[str, str] | None:
    """Return the package and what is named in it, of a path of the form `PACKAGE[FILE]`; None for any other path.

    The brackets are those that belong together at the end: names may have some of their own, as `img[1].png` does.
    It is what USD's own asset resolution does, a bracket after a backslash being part of a name.
    """
    at = _opening(text)
    if not at:
        return None
    inner = text[at + 1 : -1]
    # what is named in a package inside of the package is taken apart later, as it is written
    own = len(inner) if (nested := _opening(inner)) is None else nested
    return text[:at], inner[:own].replace("\\[", "[").replace("\\]", "]") + inner[own:]


def _opening(text: str) -> int | None:
    """Return where the bracket stands that belongs to the one at the end, None where there is none."""
    if not text.endswith("]") or "[" not in text:
        return None
    depth = 1
    for at in range(len(text) - 2, -1, -1):
        if text[at] in "[]" and (at == 0 or text[at - 1] != "\\"):
            depth += 1 if text[at] == "]" else -1
            if depth == 0:
                return at
    return None


@lru_cache(1 << 16)  # asked several times about each of very many paths
def dialect(text: str) -> Dialect:
    """Return which dialect a path is written in."""
    if ARGUMENTS in text:
        text = without_arguments(text)
    if not text:
        return Dialect.EMPTY
    if text.startswith("`"):
        return Dialect.EXPRESSION
    if split_package(text) is not None:
        return Dialect.PACKAGED
    if text.startswith(("\\\\", "//")):
        verbatim = _VERBATIM.match(text)
        is_drive = verbatim is not None and _DRIVE.match(text, verbatim.end())
        return Dialect.DRIVE if is_drive else Dialect.SHARE
    if _DRIVE.match(text):
        return Dialect.DRIVE
    if text.lower().startswith("file:"):
        return Dialect.FILE_URL
    if _SCHEME.match(text):
        return Dialect.URL if _WEB.match(text) else Dialect.IDENTIFIER
    if text.startswith("/"):
        return Dialect.POSIX
    if text.startswith(("./", "../", ".\\", "..\\")) or text in (".", ".."):
        return Dialect.RELATIVE
    return Dialect.SEARCH


def is_absolute(text: str) -> bool:
    """Return whether a path is valid on one machine only, because it starts at a root, a drive, a share or a URL."""
    return dialect(text) in _ABSOLUTE


def variables(text: str) -> list[str]:
    """Return the environment variables that a path holds, as written: `$ROOT`, `${ROOT}`, `%ROOT%`, `~`."""
    if "$" not in text and "%" not in text and not text.startswith("~"):
        return []
    return _VARIABLE.findall(text)


def forward_slashes(text: str) -> str:
    """The path with forward slashes. On POSIX a backslash may be part of a name: for Windows dialects only."""
    return text.replace("\\", "/")


def to_slashes(text: str) -> str:
    """One spelling for comparing and splitting: forward slashes, file URLs decoded, trailing slashes gone."""
    kind = dialect(text)
    if kind is Dialect.FILE_URL:
        url = urlsplit(forward_slashes(text))
        path = unquote(url.path)
        if url.netloc and url.netloc != "localhost":
            return f"//{url.netloc}{path}"
        return path[1:] if _DRIVE.match(path[1:]) else path
    if kind in (Dialect.EXPRESSION, Dialect.URL, Dialect.IDENTIFIER, Dialect.PACKAGED):
        return text
    if kind in (Dialect.DRIVE, Dialect.SHARE):
        verbatim = _VERBATIM.match(text)
        if verbatim is not None:
            text = ("//" if verbatim["share"] else "") + text[verbatim.end() :]
        if kind is Dialect.DRIVE and text[2:3] not in ("\\", "/", ""):
            # as a scene is opened, the folder that is open on a drive is its root
            text = f"{text[:2]}/{text[2:]}"
    # a backslash in a path with forward slashes only up front can still be a Windows path written half and half
    return forward_slashes(text)


def file_name(text: str) -> str:
    """The last part of a path of any dialect."""
    return posixpath.basename(to_slashes(text).rstrip("/"))


def parts(text: str) -> tuple[str, ...]:
    """The parts of a path of any dialect, without empty ones and `.`."""
    return tuple(part for part in to_slashes(text).split("/") if part not in ("", "."))


def swap_prefix(text: str, old: str, new: str) -> str | None:
    """`text` with the leading folders `old` replaced by `new`, or None when it does not start with them.

    Whole parts only (`/mnt/a` is no prefix of `/mnt/ab`); Windows dialects compare without regard to case.
    """
    whole, lead = to_slashes(text), to_slashes(old).rstrip("/")
    folded = dialect(old) in (Dialect.DRIVE, Dialect.SHARE) or dialect(text) in (Dialect.DRIVE, Dialect.SHARE)
    head = whole[: len(lead)]
    if (head.lower() != lead.lower()) if folded else (head != lead):
        return None
    rest = whole[len(lead) :]
    if rest and not rest.startswith("/"):
        if not lead.endswith(":"):
            return None
        rest = f"/{rest}"  # what follows a scheme: asset:show/a.png
    return to_slashes(new).rstrip("/") + rest


def folded(name: str) -> str:
    """A name so that those are equal which some system takes for one: without case, in one Unicode form (NFC)."""
    return name.lower() if name.isascii() else unicodedata.normalize("NFC", name.casefold())


def heads(old: str, new: str) -> tuple[str, str] | None:
    """Return what two paths differ in once their common tail is cut off: the folder that moved, and where it went.

    None when they share no tail, or differ in nothing.
    """
    ours, theirs = to_slashes(old).split("/"), to_slashes(new).split("/")
    while len(ours) > 1 and len(theirs) > 1 and ours[-1] == theirs[-1]:
        ours.pop()
        theirs.pop()
    if ours == theirs or len(ours) == len(to_slashes(old).split("/")):
        return None
    return "/".join(ours) or "/", "/".join(theirs) or "/"


def name_troubles(name: str) -> list[str]:
    """Return why a file or folder name would not survive on some farm's system; empty when it would."""
    if _PLAIN.fullmatch(name) and not _RESERVED.match(name):
        return []  # nearly all names, and there are very many
    troubles = []
    found = sorted(set(_FORBIDDEN.findall(name)))
    if found:
        troubles.append("holds " + " ".join(repr(mark) for mark in found))
    if name.endswith((" ", ".")) and name not in (".", ".."):
        troubles.append("ends with a space or a full stop")
    if _RESERVED.fullmatch(name):
        troubles.append("is a device name on Windows")
    if len(name.encode("utf-8", "surrogatepass")) > 255:
        troubles.append("is longer than 255 bytes")
    return troubles


def scene_stem(name: str) -> str:
    """A scene file's name without its ending, also where the ending has two parts."""
    lower = name.lower()
    return name[: -len(".sheet.json")] if lower.endswith(".sheet.json") else name.rpartition(".")[0] or name


def without_version(stem: str) -> str:
    """A file's stem without its version token: `shot_v003` gives `shot`."""
    return VERSION_TOKEN.sub("", stem).strip("._-") or stem


def crate_name(scene: str) -> str:
    """The name that a scene's crate has by default, from the scene's file name."""
    return f"{without_version(scene_stem(scene))}.crate"


def version_of(stem: str) -> str | None:
    """A file's version token (`v003`), or None."""
    found = VERSION_TOKEN.findall(stem)
    return str(found[-1]).lstrip("._-") if found else None


def relative(target: PurePosixPath, folder: PurePosixPath) -> str:
    """`target` as seen from `folder`, both relative to the same root, always starting with `./` or `../`.

    An absolute target, as files on shared storage have, is itself from a folder of the crate.
    """
    if is_absolute(str(target)) and not is_absolute(str(folder)):
        return str(target)
    text = posixpath.relpath(str(target), str(folder) or ".")
    return text if text.startswith("../") else f"./{text}"
