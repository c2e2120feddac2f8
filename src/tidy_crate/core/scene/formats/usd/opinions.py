"""Opinions of a layer: what is authored in the staged root over a USD scene."""

from __future__ import annotations

from pxr import Sdf


def author(spec: Sdf.PrimSpec, name: str, kind: Sdf.ValueTypeName, value: object, *, custom: bool = False) -> None:
    """Author the default value of an attribute. custom: of no schema."""
    attribute = spec.attributes.get(name) or Sdf.AttributeSpec(spec, name, kind)
    attribute.custom = custom
    attribute.default = value


def point(spec: Sdf.PrimSpec, name: str, targets: list[Sdf.Path]) -> None:
    """Author the targets of a relationship of a schema, in place of all others."""
    relationship = spec.relationships.get(name) or Sdf.RelationshipSpec(spec, name, custom=False)
    relationship.targetPathList.explicitItems = targets
