"""MaterialX documents: `filename` inputs with their prefixes, and other documents they include.

Source: the MaterialX specification, "Filename Substitutions" and "MaterialX File References".
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO
from xml.etree import ElementTree as Xml

from tidy_crate.core.asset.follow.interface import FileLink, NewText
from tidy_crate.core.files import read_input

_XI = "http://www.w3.org/2001/XInclude"
_INCLUDE = f"{{{_XI}}}include"
MOST_BYTES = 64 << 20
# a node graph in a node definition is three deep
DEEPEST = 100


class MaterialX:
    """Reads and writes the documents as XML."""

    suffixes = (".mtlx",)

    def links(self, path: Path) -> list[FileLink]:
        """See Follower.links."""
        return [link for _, _, link in _walk(_parsed(path), "", "")]

    def rewrite(self, source: Path, target: BinaryIO, new_text: NewText) -> None:
        """See Follower.rewrite."""
        root = _parsed(source)
        for element, attribute, link in list(_walk(root, "", "")):
            element.set(attribute, new_text(link))
        for element in root.iter():
            # every name is whole now: a prefix would be put in front of it once more
            element.attrib.pop("fileprefix", None)
        Xml.register_namespace("xi", _XI)
        Xml.ElementTree(root).write(target, encoding="utf-8", xml_declaration=True)


def _parsed(path: Path) -> Xml.Element:
    data = read_input(path, MOST_BYTES)
    if not data:
        raise ValueError("it is empty")
    # a document type can make a small file unfold into a huge one, and MaterialX has no use for it
    if b"<!DOCTYPE" in data or b"<!ENTITY" in data:
        raise ValueError("it has a document type, which MaterialX does not use")
    try:
        parser = Xml.XMLParser(target=Xml.TreeBuilder(insert_comments=True))
        return Xml.fromstring(data, parser)
    except (Xml.ParseError, ValueError, LookupError) as error:
        raise ValueError(f"it is not well-formed XML ({error})") from error


def _walk(element: Xml.Element, prefix: str, where: str) -> Iterator[tuple[Xml.Element, str, FileLink]]:
    """Every element that names a file, with the attribute that does, and its value with its prefix."""
    if not isinstance(element.tag, str):
        return
    if where.count("/") >= DEEPEST:
        raise ValueError(f"its elements are nested more than {DEEPEST} deep")
    prefix = element.get("fileprefix", prefix)
    where = f"{where}/{element.get('name') or element.tag.rpartition('}')[2]}"
    if element.tag == _INCLUDE and element.get("href"):
        yield element, "href", FileLink(element.get("href", ""), where, "material")
    elif element.get("type") == "filename" and element.get("value"):
        yield element, "value", FileLink(prefix + element.get("value", ""), where, "texture")
    for child in element:
        yield from _walk(child, prefix, where)
