"""Features of a USD scene that some programs cannot read: kinds of geometry and light, materials of one renderer."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from pxr import Usd, UsdShade

from tidy_crate.core.scene.formats.usd.prims import Kind, Names, ScenePrims
from tidy_crate.core.scene.model import Feature, Material
from tidy_crate.core.scene.settings import SettingsMap

# features in the trade's words, by the types and applied schemas that bring them in
_BY_TYPE = {
    "volumes": ("Volume", "OpenVDBAsset", "Field3DAsset"),
    "point instancing": ("PointInstancer",),
    "skeletons": ("SkelRoot", "Skeleton", "SkelAnimation", "BlendShape"),
    "curves": ("BasisCurves", "HermiteCurves", "NurbsCurves"),
    "NURBS surfaces": ("NurbsPatch",),
    "points": ("Points",),
    "tetrahedral meshes": ("TetMesh",),
    "portal lights": ("PortalLight",),
    "geometry lights": ("GeometryLight",),
    "light filters": ("LightFilter", "PluginLightFilter"),
    "rigid body physics": ("PhysicsScene",),
    "audio": ("SpatialAudio",),
}
_BY_SCHEMA = {
    "mesh lights": ("MeshLightAPI",),
    "volume lights": ("VolumeLightAPI",),
    "MaterialX": ("MaterialXConfigAPI",),
    "colour space definitions": ("ColorSpaceDefinitionAPI",),
}
GENERAL = "general"


def scene_features(scene: ScenePrims, names: Names) -> tuple[Feature, ...]:
    """The features of the format itself that anything in the scene uses."""
    found = []
    for feature, types in _BY_TYPE.items():
        where = next((scene.first_of_type[one] for one in types if one in scene.first_of_type), None)
        if where is not None:
            found.append(Feature(name=feature, where=where))
    found += [
        Feature(name=feature)
        for feature, schemas in _BY_SCHEMA.items()
        if any(schema.partition(":")[0] in schemas for schema in names.schemas)
    ]
    return tuple(sorted(found, key=lambda one: one.name))


def unknown_types(scene: ScenePrims) -> dict[str, str]:
    """Types of prims that no schema of this USD build declares, with a prim of each."""
    registry = Usd.SchemaRegistry()
    return {
        name: path
        for name, path in sorted(scene.first_of_type.items())
        if name and registry.FindConcretePrimDefinition(name) is None
    }


# parts of names by which plug-ins call what depends on the frame before; the standard has rigid bodies itself
_SIMULATED = ("deformable", "cloth", "softbody", "fluid", "particle", "hair", "muscle", "tissue", "jiggle", "fracture",
              "simulation", "dynamics", "granular", "ragdoll")  # fmt: skip


def unknown_simulations(scene: ScenePrims, names: Names, types: Mapping[str, str]) -> dict[str, str]:
    """Types and schemas that this USD build does not know and that speak of a simulation, with a prim of each.

    types: of `unknown_types`.
    """
    registry = Usd.SchemaRegistry()
    found = {name: path for name, path in types.items() if _speaks_of_simulation(name)}
    wanted = {
        name
        for name in names.schemas
        if _speaks_of_simulation(name) and registry.FindAppliedAPIPrimDefinition(name.partition(":")[0]) is None
        and not registry.IsAppliedAPISchema(name.partition(":")[0])
    }  # fmt: skip
    for prim, _, _, path in scene.active if wanted else ():
        listed = prim.GetMetadata("apiSchemas")
        for name in wanted & set(listed.GetAppliedItems() if listed is not None else ()):
            found.setdefault(name, path)
    return dict(sorted(found.items()))


def _speaks_of_simulation(name: str) -> bool:
    lower = name.lower()
    return any(word in lower for word in _SIMULATED)


def materials_of(scene: ScenePrims, renderer: SettingsMap) -> tuple[Material, ...]:
    """The materials in use that no renderer's general context holds, only those of certain renderers."""
    found = tuple(_materials(scene)) if renderer.materials else ()
    if not found:
        return ()
    bound = _bound(scene)
    return tuple(one for one in found if one.name in bound)


def _bound(scene: ScenePrims) -> set[str]:
    """The materials that anything active is bound to, for any purpose."""
    prims = list(scene.of_kind(Kind.BINDS))
    found: set[str] = set()
    for purpose in UsdShade.MaterialBindingAPI.GetMaterialPurposes():
        materials, _ = UsdShade.MaterialBindingAPI.ComputeBoundMaterials(prims, purpose)
        found |= {str(material.GetPath()) for material in materials if material}
    return found


def _materials(scene: ScenePrims) -> Iterator[Material]:
    for prim in scene.of_kind(Kind.SHADING):
        if not prim.IsA(UsdShade.Material):
            continue
        # outputs:surface is for every renderer, outputs:CONTEXT:surface for those of that context
        outputs = [
            output.GetBaseName().split(":")
            for output in UsdShade.Material(prim).GetSurfaceOutputs()
            if output.HasConnectedSource()
        ]
        contexts = tuple(sorted({parts[0] if len(parts) > 1 else GENERAL for parts in outputs}))
        if contexts and GENERAL not in contexts:
            yield Material(name=str(prim.GetPath()), contexts=contexts)
