"""Kind of a file by its first bytes, whatever its name says.

Source: the signatures that the formats' own specifications give.
"""

from __future__ import annotations

import os
import struct
import threading
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from tidy_crate.core.files import open_input

if TYPE_CHECKING:
    from PIL import Image

LENGTH = 64
_READ = os.O_RDONLY | getattr(os, "O_BINARY", 0) | getattr(os, "O_NONBLOCK", 0)

_SIGNATURES = (
    (b"\x89PNG\r\n\x1a\n", "PNG"),
    (b"\xff\xd8\xff", "JPEG"),
    (b"II*\0", "TIFF"),
    (b"MM\0*", "TIFF"),
    (b"II+\0", "TIFF"),
    (b"MM\0+", "TIFF"),
    (b"\x76\x2f\x31\x01", "OpenEXR"),
    (b"#?RADIANCE", "Radiance"),
    (b"#?RGBE", "Radiance"),
    (b"GIF8", "GIF"),
    (b"BM", "BMP"),
    (b"PK\x03\x04", "ZIP"),
    (b"PXR-USDC", "USD crate"),
    (b"#usda", "USD text"),
    (b"Ogawa", "Alembic"),
    (b"\x89HDF", "Alembic"),
    (b" BDV", "OpenVDB"),
    (b"glTF", "binary glTF"),
    (b"OTTO", "font"),
    (b"\0\x01\0\0", "font"),
    (b"true", "font"),
    (b"ttcf", "font"),
    (b"DDS ", "DDS"),
    (b"\xabKTX", "KTX"),
)
PICTURES = frozenset({"PNG", "JPEG", "TIFF", "OpenEXR", "Radiance", "GIF", "BMP", "WebP", "DDS", "KTX"})
# what may be behind an ending; those that are not here have no signature of their own
_BY_ENDING = {
    ".png": {"PNG"}, ".jpg": {"JPEG"}, ".jpeg": {"JPEG"}, ".tif": {"TIFF"}, ".tiff": {"TIFF"},
    ".tx": {"TIFF", "OpenEXR"}, ".exr": {"OpenEXR"}, ".hdr": {"Radiance"}, ".gif": {"GIF"}, ".bmp": {"BMP"},
    ".webp": {"WebP"}, ".usdz": {"ZIP"}, ".usdc": {"USD crate"}, ".usda": {"USD text"},
    ".usd": {"USD crate", "USD text"}, ".abc": {"Alembic"}, ".vdb": {"OpenVDB"}, ".glb": {"binary glTF"},
    ".ttf": {"font"}, ".otf": {"font"}, ".dds": {"DDS"}, ".ktx": {"KTX"}, ".ktx2": {"KTX"},
}  # fmt: skip
# channels by the format's code for its kind of colour
_PNG_CHANNELS = {0: 1, 2: 3, 3: 1, 4: 2, 6: 4}
# the limit is one for the whole library
_ANY_SIZE = threading.Lock()
_KEYS = (b"PuTTY-User-Key-File", b"openssh-key-v1", b"AGE-SECRET-KEY")
_POINTER = b"version https://git-lfs"


class Head(NamedTuple):
    """Facts from the first bytes of a file."""

    kind: str | None
    """The format in words, None while no signature is known."""
    placeholder: str | None = None
    """The kind of placeholder in the file's place, None for a real file."""
    size: tuple[int, int] | None = None
    """Width and height in pixels, where the first bytes tell."""
    pixel_bytes: int | None = None
    """Bytes of one pixel, decoded at its own depth."""
    is_key: bool = False
    """True if it begins like a private key."""
    is_empty: bool = False

    @property
    def is_picture(self) -> bool:
        """Return whether it is a picture of a known format."""
        return self.kind in PICTURES


def read_head(path: str) -> Head:
    """Look at a file's first bytes. Raises OSError."""
    # very many files, and this way is the quickest
    stream = os.open(path, _READ)
    try:
        return head_of(os.read(stream, LENGTH))
    finally:
        os.close(stream)


def head_of(data: bytes) -> Head:
    """Return what the first bytes of a file say."""
    kind = next((kind for signature, kind in _SIGNATURES if data.startswith(signature)), None)
    if kind == "PNG" and len(data) >= 26:
        width, height, depth, colour = struct.unpack(">IIBB", data[16:26])
        channels = _PNG_CHANNELS.get(colour)
        return Head(kind, None, (width, height), channels and channels * max(1, depth // 8))
    if kind is not None:
        return Head(kind)
    if data.startswith(b"RIFF") and data[8:12] == b"WEBP":
        return Head("WebP")
    if not data:
        return Head(None, is_empty=True)
    if data.startswith(_KEYS) or (data.startswith(b"-----BEGIN ") and b"PRIVATE KEY" in data):
        return Head(None, is_key=True)
    if data.startswith(_POINTER):
        return Head(None, "a pointer that version control left in its place")
    if data.lstrip()[:14].lower().startswith((b"<!doctype html", b"<html")):
        return Head(None, "a web page, left by a download that failed")
    return Head(None)


def open_picture(path: Path, formats: tuple[str, ...] | None = None) -> Image.Image:
    """Open a picture for its header, however large it claims to be: the pixels are not read.

    formats: by Pillow's names, those that it may be of; any that Pillow knows without them.
    Raises what Pillow raises, which may be anything.
    """
    from PIL import Image

    with _ANY_SIZE:
        most, Image.MAX_IMAGE_PIXELS = Image.MAX_IMAGE_PIXELS, None
        try:
            with open_input(path):
                # a pipe ends here: the library would wait for whoever writes into it
                return Image.open(path, formats=formats)
        finally:
            Image.MAX_IMAGE_PIXELS = most


def expected(name: str) -> set[str]:
    """The formats that the ending of a file's name stands for; empty where an ending says nothing."""
    return _BY_ENDING.get(f".{name.rpartition('.')[2].lower()}", set())
