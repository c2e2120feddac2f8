"""glTF 2.0 scenes, text and binary."""

from __future__ import annotations

import json
import os
import shutil
import struct
from pathlib import Path
from typing import Any

import pytest

from conftest import ANY, open_trusted
from tidy_crate.core.check.run import check_scene
from tidy_crate.core.context.relink import apply_relinks, propose
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.prove import prove
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.scene.formats.gltf import Gltf
from tidy_crate.core.scene.model import Asset, Status

SCENE: dict[str, Any] = {
    "asset": {"version": "2.0", "generator": "quaybuilder"},
    "scene": 0,
    "scenes": [{"nodes": [0, 2]}],
    "nodes": [{"mesh": 0, "children": [1]}, {"camera": 0, "name": "lens"}, {}, {"mesh": 1}],
    "cameras": [{"type": "perspective", "perspective": {"yfov": 1, "znear": 0.1}}],
    "meshes": [{"primitives": [{"material": 0}]}, {"primitives": [{"material": 1}]}],
    "materials": [
        {"name": "wood", "pbrMetallicRoughness": {"baseColorTexture": {"index": 0}},
         "extensions": {"KHR_materials_clearcoat": {"clearcoatTexture": {"index": 1}}}},
        {"emissiveTexture": {"index": 3}},
    ],
    "textures": [{"source": 0}, {"extensions": {"KHR_texture_basisu": {"source": 1}}}, {"source": 2}, {"source": 3}],
    "images": [{"uri": "tex/cargo%20side.png"}, {"uri": "tex/coat.ktx2"}, {"uri": "tex/unused.png"},
               {"uri": "tex/hidden.png"}, {"uri": "data:image/png;base64,AAAA"}],
    "buffers": [{"uri": "geo.bin", "byteLength": 4}],
    "accessors": [{"min": [0.5], "max": [2.5]}],
    "animations": [{"samplers": [{"input": 0, "output": 0}], "channels": [{"sampler": 0, "target": {"node": 1}}]}],
}  # fmt: skip


def write_scene(folder: Path, content: dict[str, Any] = SCENE, binary: bool = False) -> Path:
    (folder / "tex").mkdir(parents=True)
    for name in ("tex/cargo side.png", "tex/coat.ktx2", "geo.bin"):
        (folder / name).write_bytes(name.encode())
    data = json.dumps(content).encode()
    if not binary:
        (folder / "quay.gltf").write_bytes(data)
        return folder / "quay.gltf"
    data += b" " * (-len(data) % 4)
    chunk = struct.pack("<II", 8, 0x004E4942) + b"12345678"
    head = struct.pack("<IIIII", 0x46546C67, 2, 20 + len(data) + len(chunk), len(data), 0x4E4F534A)
    (folder / "quay.glb").write_bytes(head + data + chunk)
    return folder / "quay.glb"


def by_name(assets: tuple[Asset, ...]) -> dict[str, Asset]:
    return {asset.authored: asset for asset in assets}


@pytest.mark.parametrize("binary", [False, True])
def test_every_uri_is_found_and_need_is_judged_by_what_shows(binary: bool, tmp_path: Path) -> None:
    survey = Gltf().read(write_scene(tmp_path / "s", binary=binary))
    assets = by_name(survey.assets)
    assert set(assets) == {"tex/cargo%20side.png", "tex/coat.ktx2", "tex/unused.png", "tex/hidden.png", "geo.bin"}
    assert assets["tex/cargo%20side.png"].status is Status.FOUND
    assert {name for name, asset in assets.items() if asset.needed} == {
        "tex/cargo%20side.png",
        "tex/coat.ktx2",
        "geo.bin",
    }
    assert assets["tex/coat.ktx2"].because == "used by wood"
    assert [camera.path for camera in survey.cameras] == ["/nodes/1 lens"]
    assert survey.motion == "camera"
    assert [(s.owner, s.value) for s in survey.settings] == [("/animations/0", [0.5, 2.5])]


@pytest.mark.parametrize("binary", [False, True])
def test_a_crate_of_a_relinked_scene_holds_without_the_originals(binary: bool, tmp_path: Path) -> None:
    scene = write_scene(tmp_path / "s", binary=binary)
    (tmp_path / "far/tex").mkdir(parents=True)
    shutil.move(tmp_path / "s/tex/cargo side.png", tmp_path / "far/tex/cargo side.png")
    before = scene.read_bytes()
    context = open_trusted(scene)
    proposals = propose(context.survey(), [tmp_path / "far"], [])
    assert [proposal.candidate.name for proposal in apply_relinks(context, proposals)] == ["cargo side.png"]
    result = collect(open_trusted(scene), tmp_path / "c.crate")
    assert result.complete and scene.read_bytes() == before
    shutil.rmtree(tmp_path / "s")
    shutil.rmtree(tmp_path / "far")
    assets = by_name(Gltf().read(result.scene).assets)
    moved = assets["elsewhere/tex/cargo%20side.png"]
    assert moved.status is Status.FOUND and moved.members[0].path.read_bytes() == b"tex/cargo side.png"
    assert result.scene.read_bytes()[-8:] == (b"12345678" if binary else result.scene.read_bytes()[-8:])
    proof = prove(tmp_path / "c.crate", os.environ, ANY, test=False)
    assert proof.whole, proof


def test_a_scene_whose_paths_hold_is_copied_bit_by_bit(tmp_path: Path) -> None:
    content = {**SCENE, "images": SCENE["images"][:2], "materials": SCENE["materials"][:1]}
    scene = write_scene(tmp_path / "s", content)
    result = collect(open_trusted(scene), tmp_path / "c.crate")
    assert result.rewritten == () and result.scene.read_bytes() == scene.read_bytes()


@pytest.mark.parametrize(
    ("data", "message"),
    [
        (b"", "not valid"),
        (b"[1]", "not glTF 2"),
        (b'{"asset": {"version": "1.0"}}', "not glTF 2"),
        (b'{"asset": "2.0"}', "not glTF 2"),
        (b"[" * 100_000, "not valid"),
        (struct.pack("<IIIII", 0x46546C67, 2, 99, 10**9, 0x4E4F534A), "does not fit"),
        (struct.pack("<IIIII", 0x46546C67, 1, 99, 4, 0) + b"{}  ", "not glTF 2"),
    ],
)
def test_a_broken_file_is_one_clear_error(data: bytes, message: str, tmp_path: Path) -> None:
    (tmp_path / "x.glb").write_bytes(data)
    with pytest.raises(UnreadableInput, match=message):
        Gltf().read(tmp_path / "x.glb")


def test_tables_that_point_nowhere_do_not_break_the_survey(tmp_path: Path) -> None:
    content = {
        "asset": {"version": "2.0"}, "scene": 7, "scenes": [{"nodes": [99, "x", -1]}, 5], "meshes": 3,
        "images": [{"uri": "../../../../etc/passwd"}, {"uri": 5}, "x"], "buffers": {"uri": "b.bin"},
        "animations": [{"samplers": [{"input": 4}], "channels": [{"target": 3}]}], "nodes": [None, {"mesh": "a"}],
        "extensions": {"x": [1, {"image": 0}]},
    }  # fmt: skip
    survey = Gltf().read(write_scene(tmp_path / "s", content))
    assert {asset.authored for asset in survey.assets} == {"../../../../etc/passwd", "b.bin"}
    # and each of them is told with its place
    told = "\n".join(one.detail for one in survey.unread)
    for pointer in (
        "/scene is 7",
        "/scenes/1 is the number 5",
        "/meshes is the number 3",
        "/images/1/uri",
        "/nodes/0 is null",
    ):
        assert pointer in told


@pytest.mark.parametrize(
    ("path", "value", "pointer"),
    [
        (("materials",), {}, "/materials is an object, and has to be an array"),
        (("materials", 0), "wood", "/materials/0 is a text, and has to be an object"),
        (("meshes", 0, "primitives"), {}, "/meshes/0/primitives is an object, and has to be an array"),
        (("meshes", 0, "primitives", 0, "material"), "0", "/meshes/0/primitives/0/material is a text"),
        (("nodes", 0, "mesh"), 0.5, "/nodes/0/mesh is the number 0.5, and has to be an index"),
        (("nodes", 0, "mesh"), 4, "/nodes/0/mesh is 4, and there are 2 meshes"),
        (("textures", 0, "source"), -1, "/textures/0/source is the number -1"),
        (("materials", 0, "pbrMetallicRoughness", "baseColorTexture"), 0, "/pbrMetallicRoughness/baseColorTexture is"),
        (
            ("materials", 0, "pbrMetallicRoughness", "baseColorTexture", "index"),
            True,
            "baseColorTexture/index is a truth",
        ),
        (("scenes", 0, "nodes"), 0, "/scenes/0/nodes is the number 0, and has to be an array"),
    ],
)
def test_a_wrong_type_on_the_way_to_an_image_makes_no_image_unused(
    path: tuple[str | int, ...], value: Any, pointer: str, tmp_path: Path
) -> None:
    content = json.loads(json.dumps(SCENE))
    holder = content
    for key in path[:-1]:
        holder = holder[key]
    holder[path[-1]] = value
    scene = write_scene(tmp_path / "s", content)
    survey = Gltf().read(scene)
    assert any(pointer in one.detail for one in survey.unread)
    assert all(asset.needed for asset in survey.assets if asset.kind == "texture")
    found = [one for one in check_scene(open_trusted(scene)).findings if one.code == "layer-unread"]
    assert any(pointer in one.message for one in found)


def test_a_sound_scene_has_nothing_of_a_wrong_type_and_data_is_data_in_any_case(tmp_path: Path) -> None:
    content = json.loads(json.dumps(SCENE))
    content["images"][4]["uri"] = "DATA:image/png;base64,AAAA"
    survey = Gltf().read(write_scene(tmp_path / "s", content))
    assert not survey.unread and not any(asset.authored.lower().startswith("data:") for asset in survey.assets)
    assert not by_name(survey.assets)["tex/unused.png"].needed
