"""An order from outside of a USD scene, authored in the staged root as prims of UsdRender.

Any renderer that reads the staged scene finds it there. Source: the OpenUSD documentation, "UsdRender".
"""

from __future__ import annotations

from pxr import Gf, Sdf, Usd, UsdGeom, UsdRender

from tidy_crate.core.scene.formats.usd.opinions import author, point
from tidy_crate.core.scene.formats.usd.outputs import find_outputs
from tidy_crate.core.scene.staging import PICTURE, OrderedProduct, RenderOrder, source_of

SCOPE = Sdf.Path("/Render")
SETTINGS = "renderSettingsPrimPath"
# by the usual names of passes, the type of their values; colours otherwise
_TYPES = {"depth": "float", "z": "float", "id": "int", "normal": "normal3f", "n": "normal3f", "p": "point3f",
          "position": "point3f", "motion": "vector3f", "alpha": "float"}  # fmt: skip


def author_order(source: Usd.Stage, order: RenderOrder, layer: Sdf.Layer) -> None:
    """Author an order over a scene. source: the scene as composed; layer: the staged root.

    Raises UnreadableInput where it asks for a camera that there is not.
    """
    if order.range is not None:
        layer.startTimeCode, layer.endTimeCode = map(float, order.range)
    if not {"camera", "resolution", "output"} & set(order.says):
        return
    found = find_outputs(source)
    settings = found.settings.GetPath() if found.settings else _free(source, SCOPE.AppendChild("Settings"))
    spec = _defined(source, layer, settings, "RenderSettings")
    layer.pseudoRoot.SetInfo(SETTINGS, str(settings))
    products = [source.GetPrimAtPath(one.prim) for one in found.outputs]
    camera = order.chosen(str(prim.GetPath()) for prim in source.Traverse() if prim.IsA(UsdGeom.Camera))
    # a product's own opinion counts before that of the settings
    owners = [spec, *(Sdf.CreatePrimInLayer(layer, prim.GetPath()) for prim in products)]
    for owner in owners:
        if camera is not None:
            point(owner, "camera", [Sdf.Path(camera)])
        if order.resolution is not None:
            author(owner, "resolution", Sdf.ValueTypeNames.Int2, Gf.Vec2i(*order.resolution))
    by_name = {one.name: Sdf.Path(one.prim) for one in found.outputs}
    made = [
        _product(source, layer, by_name.get(name) or _free(source, settings.AppendChild(_identifier(name))), one)
        for name, one in order.outputs(by_name).items()
    ]
    if made:
        point(spec, "products", list(dict.fromkeys([*by_name.values(), *made])))


def _product(source: Usd.Stage, layer: Sdf.Layer, path: Sdf.Path, one: OrderedProduct) -> Sdf.Path:
    spec = _defined(source, layer, path, "RenderProduct")
    if one.path:
        author(spec, "productName", Sdf.ValueTypeNames.Token, one.path)
    prim = source.GetPrimAtPath(path)
    stated = bool(prim) and bool(UsdRender.Product(prim).GetOrderedVarsRel().GetTargets())
    passes = one.passes or (() if stated else (PICTURE,))
    if passes:
        point(spec, "orderedVars", [_pass(source, layer, path.AppendChild(_identifier(name)), name) for name in passes])
    return path


def _pass(source: Usd.Stage, layer: Sdf.Layer, path: Sdf.Path, name: str) -> Sdf.Path:
    spec = _defined(source, layer, path, "RenderVar")
    author(spec, "sourceName", Sdf.ValueTypeNames.String, source_of(name))
    author(spec, "dataType", Sdf.ValueTypeNames.Token, _TYPES.get(name.lower(), "color3f"))
    return path


def _defined(source: Usd.Stage, layer: Sdf.Layer, path: Sdf.Path, kind: str) -> Sdf.PrimSpec:
    """Return the spec of a prim, which is made where the scene has none; what it is below is made with it."""
    for above in path.GetPrefixes()[:-1]:
        if not source.GetPrimAtPath(above) and layer.GetPrimAtPath(above) is None:
            spec = Sdf.CreatePrimInLayer(layer, above)
            spec.specifier, spec.typeName = Sdf.SpecifierDef, "Scope"
    spec = Sdf.CreatePrimInLayer(layer, path)
    if not source.GetPrimAtPath(path):
        spec.specifier, spec.typeName = Sdf.SpecifierDef, kind
    return spec


def _free(source: Usd.Stage, path: Sdf.Path) -> Sdf.Path:
    """Return a path at which the scene has nothing yet."""
    number, found = 1, path
    while source.GetPrimAtPath(found):
        number += 1
        found = path.ReplaceName(f"{path.name}{number}")
    return found


def _identifier(name: str) -> str:
    return str(Sdf.Path.StripNamespace(name)) if Sdf.Path.IsValidIdentifier(name) else _plain(name)


def _plain(name: str) -> str:
    text = "".join(letter if letter.isalnum() and letter.isascii() else "_" for letter in name)
    return text if text[:1].isalpha() or text[:1] == "_" else f"_{text}"
