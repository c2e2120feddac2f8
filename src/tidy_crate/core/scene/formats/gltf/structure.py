"""Values of a wrong type on the way from the scene to its images, and indices that lead nowhere.

Where there is one, nothing certain can be said of which images show: all of them are then needed.
Source: the glTF 2.0 specification, section "Properties Reference".
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

# findings that are told one by one
MOST = 20
_TABLES = ("scenes", "nodes", "meshes", "materials", "textures", "images")


def wrong_types(content: dict[str, Any]) -> list[str]:
    """Return what is wrong on the way from the scene to its images, each with its JSON pointer; at most `MOST`."""
    found: list[str] = []
    for told in _of(content):
        found.append(told)
        if len(found) >= MOST:
            break
    return found


def _of(content: dict[str, Any]) -> Iterator[str]:
    for table in _TABLES:
        yield from _objects(content, table, "")
    yield from _index(content, "scene", "", content, "scenes")
    rows: dict[str, Callable[[dict[str, Any], str], Iterator[str]]] = {
        "scenes": lambda row, at: _indices(row, "nodes", at, content, "nodes"),
        "nodes": lambda row, at: _node(row, at, content),
        "meshes": lambda row, at: _mesh(row, at, content),
        "materials": lambda row, at: _slots(row, at, content),
        "textures": lambda row, at: _texture(row, at, content),
        "images": _image,
    }
    for table, check in rows.items():
        listed = content.get(table)
        for at, row in enumerate(listed if isinstance(listed, list) else ()):
            if isinstance(row, dict):
                yield from check(row, f"/{table}/{at}")


def _node(row: dict[str, Any], at: str, content: dict[str, Any]) -> Iterator[str]:
    yield from _index(row, "mesh", at, content, "meshes")
    yield from _indices(row, "children", at, content, "nodes")


def _mesh(row: dict[str, Any], at: str, content: dict[str, Any]) -> Iterator[str]:
    yield from _objects(row, "primitives", at)
    primitives = row.get("primitives")
    for number, one in enumerate(primitives if isinstance(primitives, list) else ()):
        if isinstance(one, dict):
            yield from _index(one, "material", f"{at}/primitives/{number}", content, "materials")


def _slots(value: Any, at: str, content: dict[str, Any]) -> Iterator[str]:
    """Every key of a material that ends in Texture, in its extensions too."""
    if isinstance(value, dict):
        for key, item in value.items():
            here = f"{at}/{key}"
            if key == "extras":
                continue
            if key.lower().endswith("texture"):
                if not isinstance(item, dict):
                    yield _no(here, "object", item)
                else:
                    yield from _index(item, "index", here, content, "textures")
            elif key in ("extensions", "pbrMetallicRoughness") and not isinstance(item, dict):
                yield _no(here, "object", item)
            yield from _slots(item, here, content)
    elif isinstance(value, list):
        for number, item in enumerate(value):
            yield from _slots(item, f"{at}/{number}", content)


def _texture(row: dict[str, Any], at: str, content: dict[str, Any]) -> Iterator[str]:
    yield from _index(row, "source", at, content, "images")
    extensions = row.get("extensions")
    if "extensions" in row and not isinstance(extensions, dict):
        yield _no(f"{at}/extensions", "object", extensions)
    for name, own in extensions.items() if isinstance(extensions, dict) else ():
        if isinstance(own, dict):
            yield from _index(own, "source", f"{at}/extensions/{name}", content, "images")


def _image(row: dict[str, Any], at: str) -> Iterator[str]:
    if "uri" in row and not isinstance(row["uri"], str):
        yield _no(f"{at}/uri", "text", row["uri"])


def _objects(holder: dict[str, Any], key: str, at: str) -> Iterator[str]:
    for place, one in _rows(holder, key, at):
        if place is None:
            yield str(one)
        elif not isinstance(one, dict):
            yield _no(place, "object", one)


def _indices(holder: dict[str, Any], key: str, at: str, content: dict[str, Any], table: str) -> Iterator[str]:
    for place, one in _rows(holder, key, at):
        if place is None:
            yield str(one)
        else:
            yield from _place(one, place, content, table)


def _rows(holder: dict[str, Any], key: str, at: str) -> Iterator[tuple[str | None, Any]]:
    """Yield the entries of an array, each with its pointer; for what is no array, None and what is wrong with it."""
    listed = holder.get(key, [])
    if not isinstance(listed, list):
        yield None, _no(f"{at}/{key}", "array", listed)
        return
    yield from ((f"{at}/{key}/{number}", one) for number, one in enumerate(listed))


def _index(holder: dict[str, Any], key: str, at: str, content: dict[str, Any], table: str) -> Iterator[str]:
    if key in holder:
        yield from _place(holder[key], f"{at}/{key}", content, table)


def _place(value: Any, at: str, content: dict[str, Any], table: str) -> Iterator[str]:
    listed = content.get(table)
    count = len(listed) if isinstance(listed, list) else 0
    if not isinstance(value, int) or isinstance(value, bool) or value < 0:
        yield _no(at, "index", value)
    elif value >= count:
        yield f"{at} is {value}, and there are {count} {table}"


def _no(at: str, what: str, value: Any) -> str:
    kinds = {bool: "a truth value", str: "a text", list: "an array", dict: "an object", type(None): "null"}
    is_number = isinstance(value, int | float) and not isinstance(value, bool)
    shown = f"the number {value}" if is_number else kinds.get(type(value), "something else")
    return f"{at} is {shown[:60]}, and has to be {'an' if what[0] in 'aoi' else 'a'} {what}"
