"""The JSON of a glTF file, wherever it is, and the URIs in it.

Source: the glTF 2.0 specification, sections "GLB File Format", "URIs" and "Concepts".
"""

from __future__ import annotations

import json
import struct
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO
from urllib.parse import quote, unquote

from pydantic_core import from_json

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.files import CHUNK, open_input, os_reason

_MAGIC, _JSON = 0x46546C67, 0x4E4F534A
MOST_JSON_BYTES = 1 << 30
KINDS = {"buffers": "buffer", "images": "texture"}


@dataclass(frozen=True)
class Link:
    """One URI."""

    pointer: str
    """Its position in the document, a JSON pointer."""
    uri: str
    path: str
    """The URI as a path, percent signs decoded."""
    kind: str


@dataclass(frozen=True)
class Document:
    """A parsed glTF file."""

    content: dict[str, Any]
    """The JSON."""
    rest: int | None
    """Offset in the file at which the data after the JSON begins. None in a text file."""
    trouble: str | None = None
    """Contradiction in the file: it is shorter than its header or a chunk states."""


def read_document(path: Path) -> Document:
    """Read a .gltf or .glb. Raises UnreadableInput with a plain reason."""
    try:
        with open_input(path) as stream:
            size = path.stat().st_size
            data, rest = _json_bytes(stream, path, size)
            trouble = None if rest is None else _cut_short(stream, rest, size)
    except OSError as error:
        raise UnreadableInput(f"cannot read the scene ({os_reason(error)})", path) from error
    try:
        content = from_json(data)
    except ValueError as error:
        raise UnreadableInput(f"the scene is broken: its JSON is not valid ({error})", path) from error
    asset = content.get("asset") if isinstance(content, dict) else None
    version = asset.get("version") if isinstance(asset, dict) else None
    if not isinstance(version, str) or not version.startswith("2."):
        raise UnreadableInput(f"this is not glTF 2 (it states version {version!r})", path, "save it as glTF 2.0")
    try:
        links(content)
    except RecursionError as error:
        raise UnreadableInput("the scene is broken: its JSON is nested too deeply", path) from error
    return Document(content, rest, trouble)


def _cut_short(stream: BinaryIO, at: int, size: int) -> str | None:
    """Say how a binary file ends before it says it does: by its header, or by a chunk after the JSON."""
    stream.seek(8)
    stated = struct.unpack("<I", stream.read(4))[0]
    if stated > size:
        return f"it is {size} bytes long and states {stated}"
    while at + 8 <= size:
        stream.seek(at)
        length = struct.unpack("<I", stream.read(4))[0]
        if at + 8 + length > size:
            return f"a part of it states {length} bytes and {size - at - 8} are there"
        at += 8 + length
    return None


def buffer_bytes(content: dict[str, Any], pointer: str) -> int | None:
    """Return how many bytes a file must hold at least: the length of a buffer, None for anything else.

    pointer: of the URI that names it.
    """
    parts = pointer.split("/")
    if len(parts) != 4 or parts[1] != "buffers" or not parts[2].isdigit():
        return None
    length = entry(content, "buffers", int(parts[2])).get("byteLength")
    return length if isinstance(length, int) and not isinstance(length, bool) else None


def embedded_trouble(document: Document, path: Path) -> str | None:
    """Say how the data that follows the JSON is shorter than the buffer that it is."""
    if document.rest is None:
        return None
    # only the first buffer may be the data of the file itself
    buffer = entry(document.content, "buffers", 0)
    length = buffer.get("byteLength")
    if "uri" in buffer or not isinstance(length, int):
        return None
    there = max(0, path.stat().st_size - document.rest - 8)
    return f"its buffer states {length} bytes and {there} are there" if length > there else None


def _json_bytes(stream: BinaryIO, path: Path, size: int) -> tuple[bytes, int | None]:
    head = stream.read(20)
    if len(head) == 20 and struct.unpack("<I", head[:4])[0] == _MAGIC:
        version, length, kind = struct.unpack("<I", head[4:8])[0], *struct.unpack("<II", head[12:20])
        if version != 2:
            raise UnreadableInput(f"this is not glTF 2 (it states version {version})", path, "save it as glTF 2.0")
        # the header is not believed further than the file reaches
        if kind != _JSON or 20 + length > size or length > MOST_JSON_BYTES:
            raise UnreadableInput("the scene is broken: its binary header does not fit the file", path)
        return stream.read(length), 20 + length
    if size > MOST_JSON_BYTES:
        raise UnreadableInput("the scene is far too large for a glTF text file", path)
    return head + stream.read(), None


def links(content: dict[str, Any]) -> list[Link]:
    """Every URI in the file that names another file, wherever an extension may have put it.

    What is below `extras` is an application's own and names no file of the scene.
    """
    found = []
    for pointer, holder in _holders(content, ""):
        uri = holder["uri"]
        if uri and uri[:5].lower() != "data:":
            kind = KINDS.get(pointer.split("/")[1], "file")
            found.append(Link(f"{pointer}/uri", uri, unquote(uri), kind))
    return found


def rewrite(source: Path, document: Document, target: BinaryIO, new_path: Callable[[Link], str]) -> None:
    """Write a copy whose URIs lead where `new_path` says. What follows the JSON in a binary file is copied as it is."""
    content = with_texts(document.content, {one.pointer: quote(new_path(one)) for one in links(document.content)})
    data = json.dumps(content, ensure_ascii=False, separators=(",", ":")).encode()
    if document.rest is None:
        target.write(data)
        return
    data += b" " * (-len(data) % 4)
    rest = source.stat().st_size - document.rest
    target.write(struct.pack("<IIIII", _MAGIC, 2, 20 + len(data) + rest, len(data), _JSON))
    target.write(data)
    with open_input(source) as stream:
        stream.seek(document.rest)
        while chunk := stream.read(CHUNK):
            target.write(chunk)


def with_texts(content: dict[str, Any], texts: Mapping[str, str]) -> dict[str, Any]:
    """Return a copy of a file's JSON with other URIs. texts: by JSON pointer."""
    copy: dict[str, Any] = json.loads(json.dumps(content))
    for pointer, holder in _holders(copy, ""):
        if f"{pointer}/uri" in texts:
            holder["uri"] = texts[f"{pointer}/uri"]
    return copy


def _holders(value: Any, pointer: str) -> Iterator[tuple[str, dict[str, Any]]]:
    """Every object with a `uri`, with its JSON pointer."""
    if isinstance(value, dict):
        if isinstance(value.get("uri"), str):
            yield pointer, value
        for key, item in value.items():
            if key != "extras":
                yield from _holders(item, f"{pointer}/{key}")
    elif isinstance(value, list):
        for at, item in enumerate(value):
            yield from _holders(item, f"{pointer}/{at}")


def entry(content: dict[str, Any], table: str, index: Any) -> dict[str, Any]:
    """An entry of one of the file's tables; an empty one where the index points nowhere."""
    rows = content.get(table)
    if isinstance(rows, list) and isinstance(index, int) and not isinstance(index, bool) and 0 <= index < len(rows):
        return rows[index] if isinstance(rows[index], dict) else {}
    return {}


def rows(content: dict[str, Any], table: str) -> list[dict[str, Any]]:
    """A table of the file; what is no object in it is passed over as an empty one."""
    found = content.get(table)
    return [row if isinstance(row, dict) else {} for row in found] if isinstance(found, list) else []
