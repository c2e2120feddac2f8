"""Images that the shown scene uses."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from tidy_crate.core.scene.formats.gltf.document import entry, rows


def shown_nodes(content: dict[str, Any]) -> set[int]:
    """The nodes of the scene that shows; all of them where the file names none."""
    scenes = rows(content, "scenes")
    if not scenes:
        return set(range(len(rows(content, "nodes"))))
    first = entry(content, "scenes", content.get("scene", 0))
    seen: set[int] = set()
    queue = [index for index in _list(first, "nodes") if isinstance(index, int)]
    while queue:
        index = queue.pop()
        if index not in seen:
            seen.add(index)
            queue.extend(i for i in _list(entry(content, "nodes", index), "children") if isinstance(i, int))
    return seen


def needed_images(content: dict[str, Any]) -> dict[int, str]:
    """By image index what uses it."""
    found: dict[int, str] = {}
    of_nodes = (entry(content, "nodes", node).get("mesh") for node in shown_nodes(content))
    meshes = {mesh for mesh in of_nodes if isinstance(mesh, int)}
    for mesh in meshes:
        for primitive in _list(entry(content, "meshes", mesh), "primitives"):
            for material in _materials(primitive):
                name = entry(content, "materials", material).get("name") or f"/materials/{material}"
                for texture in _textures(entry(content, "materials", material)):
                    for image in _sources(entry(content, "textures", texture)):
                        found.setdefault(image, str(name))
    # lights and skies of extensions name images outside of any material
    for image in _extension_images(content.get("extensions")):
        found.setdefault(image, "an extension of the scene")
    return found


def _materials(primitive: Any) -> Iterator[Any]:
    if isinstance(primitive, dict):
        yield primitive.get("material")
        variants = primitive.get("extensions", {})
        if isinstance(variants, dict):
            for mapping in _list(variants.get("KHR_materials_variants"), "mappings"):
                # which variant shows is chosen later, so all of them count
                yield mapping.get("material") if isinstance(mapping, dict) else None


def _textures(value: Any) -> Iterator[Any]:
    """The texture index of every key that ends in Texture, in the material itself and in its extensions."""
    if isinstance(value, dict):
        for key, item in value.items():
            if key.lower().endswith("texture") and isinstance(item, dict):
                yield item.get("index")
            yield from _textures(item)
    elif isinstance(value, list):
        for item in value:
            yield from _textures(item)


def _sources(texture: dict[str, Any]) -> Iterator[int]:
    """A texture's image, and those that extensions put in its place."""
    holders = [texture]
    extensions = texture.get("extensions")
    if isinstance(extensions, dict):
        holders += [item for item in extensions.values() if isinstance(item, dict)]
    yield from (holder["source"] for holder in holders if isinstance(holder.get("source"), int))


def _extension_images(value: Any) -> Iterator[int]:
    if isinstance(value, dict):
        for key, item in value.items():
            if key in ("image", "source") and isinstance(item, int):
                yield item
            yield from _extension_images(item)
    elif isinstance(value, list):
        for item in value:
            if isinstance(item, int):
                yield item
            yield from _extension_images(item)


def _list(holder: Any, key: str) -> list[Any]:
    found = holder.get(key) if isinstance(holder, dict) else None
    return found if isinstance(found, list) else []
