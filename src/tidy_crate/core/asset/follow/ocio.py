"""OCIO colour configurations: the look-up tables of their file transforms, along their search path.

The text is parsed as YAML, with the place of every value, and the library that reads it in a render says what variables
stand for and whether it reads the file at all. Source: the OpenColorIO documentation, "Configuration syntax".
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
import PyOpenColorIO as Ocio
import yaml

from tidy_crate.core.asset.follow.interface import FileLink, NewText
from tidy_crate.core.files import read_input

# the largest that are published have some three million
MOST_BYTES = 32 << 20
# colours that a transform is compared by: dark, grey, saturated and brighter than white
_PROBE = ((0.0, 0.0, 0.0), (0.02, 0.02, 0.02), (0.18, 0.18, 0.18), (0.8, 0.1, 0.05), (0.1, 0.6, 0.9), (2.0, 1.5, 1.0))


class ColourConfiguration:
    """Reads and rewrites the text; everything else in it stays as it is."""

    suffixes = (".ocio",)

    def links(self, path: Path) -> list[FileLink]:
        """See Follower.links."""
        text, config = _read(path)
        return [link for _, link in _links(_tree(text), config)]

    def rewrite(self, source: Path, target: BinaryIO, new_text: NewText) -> None:
        """See Follower.rewrite. Variables are filled in, since their values are those of this machine."""
        text, config = _read(source)
        tree = _tree(text)
        changes = [(node, json.dumps(new_text(link), ensure_ascii=False)) for node, link in _links(tree, config)]
        # every name now starts at the configuration itself
        changes += [(node, '"."') for node in _search(tree)]
        pieces, at = [], 0
        for node, new in sorted(changes, key=lambda one: int(one[0].start_mark.index)):
            old = text[node.start_mark.index : node.end_mark.index]
            # a value in block style ends where the next one begins
            pieces += [text[at : node.start_mark.index], new, old[len(old.rstrip()) :]]
            at = node.end_mark.index
        target.write("".join([*pieces, text[at:]]).encode())


def names_in(path: Path) -> set[str]:
    """Every name that a configuration gives to something, roles and aliases included. Raises OSError, ValueError."""
    _, config = _read(path)
    found = {name for pair in config.getRoles() for name in pair}
    spaces, every = Ocio.SEARCH_REFERENCE_SPACE_ALL, Ocio.COLORSPACE_ALL
    for name in config.getColorSpaceNames(spaces, every):
        found |= {name, *config.getColorSpace(name).getAliases()}
    for name in config.getNamedTransformNames(Ocio.NAMEDTRANSFORM_ALL):
        found |= {name, *config.getNamedTransform(name).getAliases()}
    for display in config.getDisplaysAll():
        found |= {display, *config.getViews(display)}
    found |= {*config.getLookNames(), *config.getViewTransformNames()}
    return found - {""}


def outcomes(path: Path) -> dict[str, tuple[float, ...]]:
    """Return what each colour space makes of a few colours, to the reference and from it; nothing where it fails.

    By name of the space, 36 numbers: six colours there, and six back. Raises OSError, ValueError.
    """
    _, config = _read(path)
    names = list(config.getColorSpaceNames(Ocio.SEARCH_REFERENCE_SPACE_ALL, Ocio.COLORSPACE_ALL))
    reference = "scene_linear" if config.hasRole("scene_linear") else names[0] if names else ""
    return {name: _outcome(config, name, reference) for name in names}


def alike(one: Mapping[str, tuple[float, ...]], other: Mapping[str, tuple[float, ...]]) -> list[str]:
    """Return the colour spaces of one configuration with which another one does something else."""
    return [
        name
        for name, numbers in one.items()
        if len(numbers) != len(other.get(name, ())) or not np.allclose(numbers, other[name], rtol=1e-3, atol=1e-5)
    ]


def troubles(path: Path) -> list[str]:
    """Return why the library finds fault with a configuration that it reads. Raises OSError, ValueError."""
    _, config = _read(path)
    try:
        config.validate()
    except Ocio.Exception as error:
        return [_reason(error)]
    return []


def _outcome(config: Any, name: str, reference: str) -> tuple[float, ...]:
    found: list[float] = []
    for one, other in ((name, reference), (reference, name)):
        pixels = np.array(_PROBE, np.float32)
        try:
            config.getProcessor(one, other).getDefaultCPUProcessor().applyRGB(pixels)
        except Ocio.Exception:
            return ()
        # what is not finite compares as nothing does
        found += np.nan_to_num(pixels, nan=0.0, posinf=1e9, neginf=-1e9).astype(float).ravel().round(6).tolist()
    return tuple(found)


def _read(path: Path) -> tuple[str, Any]:
    """Return the text of a configuration, and what the library makes of it. Raises ValueError where it reads none."""
    data = read_input(path, MOST_BYTES)
    if b"ocio_profile_version" not in data:
        raise ValueError("it is not a colour configuration, for it states no ocio_profile_version")
    try:
        text = data.decode("utf-8-sig")
        # left to itself the library writes on standard error
        Ocio.SetLoggingLevel(Ocio.LOGGING_LEVEL_NONE)
        config = Ocio.Config.CreateFromStream(text)
    except UnicodeDecodeError as error:
        raise ValueError(f"it is no UTF-8 text (byte {error.start})") from error
    except Ocio.Exception as error:
        raise ValueError(f"OpenColorIO cannot read it: {_reason(error)}") from error
    config.setWorkingDir(str(path.parent))
    return text, config


def _reason(error: Exception) -> str:
    return " ".join(str(error).replace("Error: ", "").split())[:300]


def _tree(text: str) -> Any:
    """Return the document as nodes, each with its place. Raises ValueError."""
    try:
        return yaml.compose(text, Loader=getattr(yaml, "CSafeLoader", yaml.SafeLoader))
    except (yaml.YAMLError, RecursionError, ValueError) as error:
        mark = getattr(error, "problem_mark", None)
        where = f" in line {mark.line + 1}" if mark is not None else ""
        raise ValueError(f"it is no valid YAML{where}") from error


def _links(tree: Any, config: Any) -> list[tuple[Any, FileLink]]:
    """Return the `src` of every file transform, as its node and as what it says with all variables filled in."""
    context = config.getCurrentContext()
    search = tuple(context.resolveStringVar(one) for one in config.getSearchPaths()) or (".",)
    found = []
    for node in _sources(tree):
        line = node.start_mark.line + 1
        found.append((node, FileLink(context.resolveStringVar(node.value), f"line {line}", "look-up table", search)))
    return sorted(found, key=lambda one: int(one[0].start_mark.index))


def _sources(tree: Any) -> Iterator[Any]:
    seen, queue = set(), [tree]
    while queue:
        node = queue.pop()
        # an alias is the node that it stands for
        if node is None or id(node) in seen:
            continue
        seen.add(id(node))
        if isinstance(node, yaml.MappingNode):
            transform = node.tag.lstrip("!") == "FileTransform"
            for key, own in node.value:
                if transform and key.value == "src" and isinstance(own, yaml.ScalarNode) and own.value:
                    yield own
                queue.append(own)
        elif isinstance(node, yaml.SequenceNode):
            queue.extend(node.value)


def _search(tree: Any) -> Iterator[Any]:
    """Yield the value of the search path, where there is one."""
    if isinstance(tree, yaml.MappingNode):
        yield from (own for key, own in tree.value if key.value == "search_path" and own.value)
