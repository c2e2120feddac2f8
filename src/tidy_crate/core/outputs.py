"""Files that a person names for a result: a picture, a page, an archive. Only what this tool wrote is written over.

Each carries a mark that readers of its format pass over: a text chunk of a PNG, a `generator` of a page, an unknown
chunk of a WebP file, a free box of an MP4, the comment of a zip, a skippable frame at the end of a zstd stream.
"""

from __future__ import annotations

import os
import stat
import struct
import zlib
from pathlib import Path

from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.files import open_input, write_whole

MARK = b"tidy-crate"
# bytes at both ends of a file in which the mark is looked for
_HEAD, _TAIL = 1 << 16, 1 << 12
_PNG = b"\x89PNG\r\n\x1a\n"
# signature, length, "IHDR", its 13 bytes, checksum
_PNG_HEAD = 8 + 4 + 4 + 13 + 4
# Zstandard, RFC 8878: frames that a decoder skips
_SKIPPABLE = 0x184D2A50


def refuse_foreign(path: Path) -> None:
    """Raise WrongUsage where a file of this name was not written by this tool."""
    try:
        found = path.lstat()
    except OSError:
        return
    if stat.S_ISDIR(found.st_mode):
        raise WrongUsage("this is a folder, and a file would be written", path, "name a file")
    if stat.S_ISREG(found.st_mode) and (found.st_size == 0 or _is_ours(path, found.st_size)):
        return
    raise WrongUsage("this file was not written by tidy-crate, and is not written over", path, "name another file")


def _is_ours(path: Path, size: int) -> bool:
    try:
        with open_input(path) as file:
            head = file.read(_HEAD)
            file.seek(max(0, size - _TAIL), os.SEEK_SET)
            return MARK in head or MARK in file.read(_TAIL)
    except OSError:
        return False


def write_output(path: Path, data: bytes) -> None:
    """Write a file that a person named. Raises WrongUsage where it would write over one of others."""
    refuse_foreign(path)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        what = f"the folder of this file cannot be made ({(error.strerror or '').lower()})"
        raise WrongUsage(what, path, "name a file in another folder") from error
    with write_whole(path) as stream:
        stream.write(marked(data))


def mark_file(path: Path) -> None:
    """Mark a file that another library wrote."""
    with path.open("rb+") as file:
        head = file.read(4)
        file.seek(0, os.SEEK_END)
        if head == struct.pack("<I", 0xFD2FB528):
            file.write(struct.pack("<II", _SKIPPABLE, len(MARK)) + MARK)
        elif head[:2] != b"PK":
            # an MP4: boxes that nothing reads
            file.write(struct.pack(">I4s", 8 + len(MARK), b"free") + MARK)


def marked(data: bytes) -> bytes:
    """Return the bytes of a PNG, WebP file or page with the mark in them; others as they are."""
    if data.startswith(_PNG):
        text = b"Software\0" + MARK
        chunk = struct.pack(">I", len(text)) + b"tEXt" + text + struct.pack(">I", zlib.crc32(b"tEXt" + text))
        return data[:_PNG_HEAD] + chunk + data[_PNG_HEAD:]
    if data[:4] == b"RIFF" and data[8:12] == b"WEBP":
        chunk = b"TDYC" + struct.pack("<I", len(MARK)) + MARK
        return b"RIFF" + struct.pack("<I", len(data) - 8 + len(chunk)) + data[8:] + chunk
    if b"<head>" in data[:1024]:
        return data.replace(b"<head>", b'<head>\n<meta name="generator" content="' + MARK + b'">', 1)
    return data
