"""C5: files, by what is in them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path

from tidy_crate.core.asset.exr_header import read_exr_header
from tidy_crate.core.asset.head import Head, expected, open_picture
from tidy_crate.core.check.finding import Checked, Next, Severity, Trouble, check
from tidy_crate.core.files import open_input, os_reason

# of a file this much at the start, in the middle and at the end is compared before two count as one
_SAMPLE = 1 << 16
# a picture smaller than this on disk is not looked into for its size in pixels
_LARGE = 1 << 20


@check("file-unreadable", Severity.ERROR, "C5")
def file_unreadable(scene: Checked) -> Iterator[Trouble]:
    """You have no permission to read the file: it cannot be collected, and would be missing on every node."""
    for _, path, head in scene.heads_of_files:
        if isinstance(head, OSError):
            yield Trouble(scene.short(path), f"it cannot be read ({os_reason(head)})", "ask for permission to read it")


@check("file-placeholder", Severity.ERROR, "C5")
def file_placeholder(scene: Checked) -> Iterator[Trouble]:
    """The file is a placeholder of a cloud drive without its contents: every frame shows a hole, and nothing is
    reported missing.
    """
    for _, path, head in scene.heads_of_files:
        if isinstance(head, Head) and head.placeholder:
            yield Trouble(scene.short(path), f"it is {head.placeholder}", "fetch the file itself")


@check("file-not-what-it-says", Severity.WARNING, "C5", Next.DECIDE)
def file_not_what_it_says(scene: Checked) -> Iterator[Trouble]:
    """The contents do not match the extension. Renderers that trust the extension fail, others do not: nodes differ."""
    for name, path, head in scene.heads_of_files:
        wanted = expected(name)
        if (
            not wanted
            or isinstance(head, OSError)
            or head.placeholder
            or head.kind in wanted
            or path in scene.held_paths
        ):
            continue
        if scene.files[path][1].bytes:
            known = f"it is {head.kind}" if head.kind else f"it does not begin like {' or '.join(sorted(wanted))}"
            yield Trouble(scene.short(path), known, "save it again from the program it is from, or rename it")


@check("texture-very-large", Severity.WARNING, "C10", Next.DECIDE)
def texture_very_large(scene: Checked) -> Iterator[Trouble]:
    """One texture of this size uses much of a GPU's memory, and many renderers do not accept it."""
    most = scene.rules.limits.texture_pixels
    for _, path, head in scene.heads_of_files:
        size = _pixels(path, head, scene.files[path][1].bytes)
        if size is not None and max(size) > most:
            yield Trouble(scene.short(path), f"{size[0]} x {size[1]} pixels, over {most}", "make it smaller, or waive")


@check("file-duplicate", Severity.NOTE, "C5", Next.NOTHING)
def file_duplicate(scene: Checked) -> Iterator[Trouble]:
    """Two files have the same contents. They travel once, and use memory twice in the renderer."""
    by_size: dict[int, list[Path]] = defaultdict(list)
    for path, (_, own) in scene.files.items():
        if own.bytes >= scene.rules.limits.duplicate_bytes:
            by_size[own.bytes].append(path)
    for paths in by_size.values():
        by_content: dict[bytes, Path] = {}
        for path in paths if len(paths) > 1 else ():
            try:
                first = by_content.setdefault(_sampled(path), path)
            except OSError:
                continue
            if first != path:
                yield Trouble(scene.short(path), f"the same as {scene.short(first)}", "let the scene name one of them")


def _sampled(path: Path) -> bytes:
    with open_input(path) as stream:
        size = path.stat().st_size
        parts = []
        for start in (0, max(0, size // 2 - _SAMPLE // 2), max(0, size - _SAMPLE)):
            stream.seek(start)
            parts.append(stream.read(_SAMPLE))
        return b"".join(parts)


def _pixels(path: Path, head: Head | OSError, size: int) -> tuple[int, int] | None:
    if isinstance(head, OSError) or head.kind is None:
        return None
    if head.size is not None or size < _LARGE:
        return head.size
    try:
        if head.kind == "OpenEXR":
            part = read_exr_header(path)[0]
            return part.width, part.height
        if head.kind in ("JPEG", "TIFF", "WebP", "BMP"):
            with open_picture(path) as picture:
                return picture.size
    except Exception:  # noqa: BLE001 - a file from anywhere; that it is broken is for others to say
        return None
    return None
