"""MaterialX documents: `filename` inputs with their prefixes, and other documents they include.

Source: the MaterialX specification, "Filename Substitutions" and "MaterialX File References".
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice
from pathlib import Path
from typing import BinaryIO
from xml.etree import ElementTree as Xml

from tidy_crate.core.asset.follow.interface import MOST_LINKS, FileLink, NewText
from tidy_crate.core.files import read_input

_XI = "http://www.w3.org/2001/XInclude"
_INCLUDE = f"{{{_XI}}}include"
MOST_BYTES = 64 << 20
# a node graph in a node definition is three deep
DEEPEST = 100
# characters of a path with its prefix, and of an element's name where it is shown
LONGEST_PATH, LONGEST_NAME = 8192, 100


class MaterialX:
    """Reads and writes the documents as XML."""

    suffixes = (".mtlx",)

    def links(self, path: Path) -> list[FileLink]:
        """See Follower.links."""
        # one more than may be says that there are too many
        return [link for _, _, link in islice(_walk(_parsed(path)), MOST_LINKS + 1)]

    def rewrite(self, source: Path, target: BinaryIO, new_text: NewText) -> None:
        """See Follower.rewrite."""
        root = _parsed(source, comments=True)
        for element, attribute, link in list(_walk(root)):
            element.set(attribute, new_text(link))
        for element in root.iter():
            # every name is whole now: a prefix would be put in front of it once more
            element.attrib.pop("fileprefix", None)
        Xml.register_namespace("xi", _XI)
        Xml.ElementTree(root).write(target, encoding="utf-8", xml_declaration=True)


def _parsed(path: Path, *, comments: bool = False) -> Xml.Element:
    data = read_input(path, MOST_BYTES)
    if not data:
        raise ValueError("it is empty")
    # a document type can make a small file unfold into a huge one, and MaterialX has no use for it
    if b"<!DOCTYPE" in data or b"<!ENTITY" in data:
        raise ValueError("it has a document type, which MaterialX does not use")
    try:
        parser = Xml.XMLParser(target=Xml.TreeBuilder(insert_comments=comments))
        return Xml.fromstring(data, parser)
    except (Xml.ParseError, ValueError, LookupError) as error:
        raise ValueError(f"it is not well-formed XML ({error})") from error


def _walk(root: Xml.Element) -> Iterator[tuple[Xml.Element, str, FileLink]]:
    """Every element that names a file, with the attribute that does, and its value with its prefix, in order."""
    # prefix and names from the root on are those of a level: they are put together only where a file is named
    levels: list[tuple[Iterator[Xml.Element], str, str]] = []
    inside = iter((root,))
    prefix = ""
    while True:
        element = next(inside, None)
        if element is None:
            if not levels:
                return
            inside, prefix, _ = levels.pop()
            continue
        if not isinstance(element.tag, str):
            continue
        if len(levels) >= DEEPEST:
            raise ValueError(f"its elements are nested more than {DEEPEST} deep")
        own = element.get("fileprefix", prefix)
        name = (element.get("name") or element.tag.rpartition("}")[2])[:LONGEST_NAME]
        found = _named(element, own)
        if found is not None:
            attribute, text, kind = found
            if len(text) > LONGEST_PATH:
                raise ValueError(f"it names a path of more than {LONGEST_PATH} characters")
            where = "/".join(("", *(one for _, _, one in levels), name))
            yield element, attribute, FileLink(text, where, kind)
        levels.append((inside, prefix, name))
        inside, prefix = iter(element), own


def _named(element: Xml.Element, prefix: str) -> tuple[str, str, str] | None:
    """The attribute by which an element names a file, the path with its prefix, and its kind."""
    if element.tag == _INCLUDE and element.get("href"):
        return "href", element.get("href", ""), "material"
    value = element.get("value")
    if element.get("type") != "filename" or not value:
        return None
    # what is too long is not put together for each of a million elements
    return "value", prefix[: LONGEST_PATH + 1] + value[: LONGEST_PATH + 1], "texture"
