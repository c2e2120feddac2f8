"""Files that name files: followed through every level, and rewritten where they would lead out of the crate."""

from __future__ import annotations

import io
import os
import shutil
import time
from collections.abc import Sequence
from pathlib import Path

import PyOpenColorIO as Ocio
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import ANY, open_trusted, tree, usda
from tidy_crate.core.asset.follow.interface import MOST_LINKS, FileLink
from tidy_crate.core.asset.follow.materialx import MaterialX
from tidy_crate.core.asset.follow.ocio import ColourConfiguration, names_in
from tidy_crate.core.asset.follow.registry import follower_of
from tidy_crate.core.asset.follow.wavefront import WavefrontMaterial, WavefrontObject
from tidy_crate.core.check.run import check_scene
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.packing import read_packing_list, write_packing_list
from tidy_crate.core.crate.prove import prove
from tidy_crate.core.scene.model import Asset, Status

MTL = b"""# cargo
newmtl wood
map_Kd -s 2 2 1 -o 0.5 planks.png\r
map_Bump -bm 0.8 bump map.png
bump -imfchan r 7.png
map_aat on
Kd 1 1 1
refl -type sphere sky.png
norm n.png
"""

MTLX = """<?xml version="1.0"?>
<materialx version="1.39" fileprefix="tex/">
  <!-- kept -->
  <xi:include href="lib/base.mtlx" xmlns:xi="http://www.w3.org/2001/XInclude"/>
  <nodegraph name="g" fileprefix="maps/">
    <image name="i" type="color3"><input name="file" type="filename" value="a.&lt;UDIM&gt;.png"/></image>
  </nodegraph>
  <image name="j" type="color3"><input name="file" type="filename" value="b.png"/>
    <input name="default" type="string" value="not-a-file.png"/></image>
</materialx>
"""

OCIO = """ocio_profile_version: 2
search_path: luts:../common/luts
roles: {default: raw}
colorspaces:
  - !<ColorSpace>
    name: film
    to_scene_reference: !<GroupTransform>
      children:
        - !<FileTransform> {src: film look.cube, interpolation: linear}
        - !<FileTransform>
          src: "grade.spi1d"
          interpolation: linear
looks:
  - !<Look> {name: no, description: "src: not-this.cube"}
"""


def texts(links: list[FileLink]) -> list[str]:
    return [link.text for link in links]


def rewritten(follower: object, source: Path) -> bytes:
    out = io.BytesIO()
    follower.rewrite(source, out, lambda link: f"./new/{link.text}")  # type: ignore[attr-defined]
    return out.getvalue()


def test_wavefront_options_and_names_with_spaces(tmp_path: Path) -> None:
    path = tmp_path / "a.mtl"
    path.write_bytes(MTL)
    expected = ["planks.png", "bump map.png", "7.png", "sky.png", "n.png"]
    assert texts(WavefrontMaterial().links(path)) == expected
    path.write_bytes(rewritten(WavefrontMaterial(), path))
    assert texts(WavefrontMaterial().links(path)) == [f"./new/{name}" for name in expected]
    assert path.read_bytes().count(b"\r\n") == 1
    obj = tmp_path / "a.obj"
    obj.write_bytes(b"v 0 0 0\nmtllib one.mtl two.mtl\nmtllib my crate.mtl\n#mtllib no.mtl\nusemtl wood\n")
    assert texts(WavefrontObject().links(obj)) == ["one.mtl", "two.mtl", "my crate.mtl"]
    assert rewritten(WavefrontObject(), obj).startswith(b"v 0 0 0\nmtllib ./new/one.mtl ./new/two.mtl\n")


@given(st.binary(max_size=400))
def test_no_bytes_make_a_follower_fail_in_any_other_way_than_it_says(data: bytes) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        for suffix in (".obj", ".mtl", ".mtlx", ".ocio"):
            path = Path(folder, f"x{suffix}")
            path.write_bytes(data)
            follower = follower_of(path)
            assert follower is not None
            try:
                links = follower.links(path)
            except ValueError:
                continue
            follower.rewrite(path, io.BytesIO(), lambda link: link.text)
            assert all(link.text for link in links)


def test_x4_names_and_prefixes_without_end_take_no_time_for_each_element(tmp_path: Path) -> None:
    path, long = tmp_path / "a.mtlx", "n" * (4 << 20)
    began = time.process_time()
    path.write_text(f'<materialx name="{long}">' + '<i type="filename" value="x.png"/>' * 20_000 + "</materialx>")
    links = MaterialX().links(path)
    assert len(links) == 20_000 and len(links[0].where) < 300
    path.write_text(f'<materialx fileprefix="{long}">' + '<i type="filename" value="x.png"/>' * 20_000 + "</materialx>")
    with pytest.raises(ValueError, match="more than 8192 characters"):
        MaterialX().links(path)
    path.write_text("<m>" + '<i type="filename" value="x.png"/>' * (MOST_LINKS + 9) + "</m>")
    assert len(MaterialX().links(path)) == MOST_LINKS + 1
    assert time.process_time() - began < 20


def test_materialx_prefixes_includes_and_tiles(tmp_path: Path) -> None:
    path = tmp_path / "a.mtlx"
    path.write_text(MTLX)
    expected = ["lib/base.mtlx", "maps/a.<UDIM>.png", "tex/b.png"]
    assert texts(MaterialX().links(path)) == expected
    path.write_bytes(rewritten(MaterialX(), path))
    assert texts(MaterialX().links(path)) == [f"./new/{name}" for name in expected]
    assert b"<!-- kept -->" in path.read_bytes()


def test_x4_a_document_that_would_unfold_without_end_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "a.mtlx"
    path.write_text('<!DOCTYPE a [<!ENTITY b "ha">]><materialx>&b;</materialx>')
    with pytest.raises(ValueError, match="document type"):
        MaterialX().links(path)


def test_colour_configurations_with_search_paths(tmp_path: Path) -> None:
    path = tmp_path / "c.ocio"
    path.write_text(OCIO)
    links = ColourConfiguration().links(path)
    assert [(link.text, link.search) for link in links] == [
        ("film look.cube", ("luts", "../common/luts")), ("grade.spi1d", ("luts", "../common/luts"))
    ]  # fmt: skip
    after = rewritten(ColourConfiguration(), path).decode()
    assert 'src: "./new/film look.cube", interpolation' in after and 'search_path: "."\n' in after
    assert after.count("\n") == OCIO.count("\n")


TABLES = ("block one.spi1d", "two.spi1d", "sq01/three.spi1d", "deep/four.spi1d", "f'ive, [5].spi1d", "sq01/six.spi1d")
STYLES = """ocio_profile_version: 2
environment: {SHOT: sq01, WHERE: deep}
search_path:
  - first
  - "luts/${WHERE}/.."
  # a comment between
  - luts
roles:
  scene_linear: ref
  default: ref
file_rules:
  - !<Rule> {name: Default, colorspace: default}
displays:
  screen:
    - !<View> {name: plain, colorspace: block}
active_displays: []
active_views: []
colorspaces:
  - !<ColorSpace>
    name: ref
    aliases: [linear, "lin one"]
  - !<ColorSpace>
    name: block
    to_scene_reference: !<GroupTransform>
      children:
        - !<FileTransform>
          src: block one.spi1d
          interpolation: linear
        - !<FileTransform>
          interpolation: linear
          src: two.spi1d  # the second one
  - !<ColorSpace> {name: flow, to_scene_reference: !<FileTransform> {src: "${SHOT}/three.spi1d", interpolation: linear}}
  - !<ColorSpace>
    name: nested
    from_scene_reference: !<GroupTransform>
      {children: [!<FileTransform> {interpolation: linear, src: '$WHERE/four.spi1d'}]}
  - !<ColorSpace>
    name: quoted
    to_scene_reference: !<FileTransform> {"src": 'f''ive, [5].spi1d', interpolation: linear}
looks:
  - !<Look>
    name: grade
    process_space: ref
    transform: !<FileTransform>
      src: >-
        %SHOT%/six.spi1d
      interpolation: linear
"""


def write_styles(folder: Path, tables: Sequence[str] = TABLES, text: str = STYLES) -> Path:
    for number, name in enumerate(tables):
        path = folder / "luts" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        values = "\n".join(str((at / 4) ** (1 + number / 5)) for at in range(5))
        path.write_text(f"Version 1\nFrom 0 1\nLength 5\nComponents 1\n{{\n{values}\n}}\n")
    (folder / "c.ocio").write_text(text)
    scene = folder / "s.usda"
    scene.write_text(usda('(\ncolorConfiguration = @./c.ocio@\n)\ndef Sphere "S" {\n}\n'))
    return scene


def colours_of(path: Path) -> dict[str, list[float]]:
    """What OpenColorIO itself makes of a colour in each space, and with each look. Raises where it cannot."""
    config = Ocio.Config.CreateFromFile(str(path))
    found = {}
    for name in config.getColorSpaceNames():
        found[name] = config.getProcessor(name, "ref").getDefaultCPUProcessor().applyRGB([0.2, 0.4, 0.7])
    for look in config.getLookNames():
        transform = Ocio.LookTransform(src="ref", dst="ref", looks=look)
        found[look] = config.getProcessor(transform).getDefaultCPUProcessor().applyRGB([0.2, 0.4, 0.7])
    return found


@pytest.mark.parametrize("beside", [True, False])
def test_a_configuration_in_any_style_does_in_the_crate_what_it_does_in_the_scene(tmp_path: Path, beside: bool) -> None:
    text = STYLES if beside else STYLES.replace("  - luts\n", f'  - "{(tmp_path / "far").as_posix()}"\n')
    scene = write_styles(tmp_path / "show", text=text)
    if not beside:
        shutil.move(tmp_path / "show/luts", tmp_path / "far")
    before = colours_of(tmp_path / "show/c.ocio")
    assert len({tuple(one) for one in before.values()}) == len(before)
    survey = open_trusted(scene).survey()
    assert {asset.authored for asset in survey.assets if asset.kind == "look-up table"} == set(TABLES)
    result = collect(open_trusted(scene), tmp_path / "c.crate")
    assert result.complete
    shutil.rmtree(tmp_path / "show")
    shutil.rmtree(tmp_path / "far", ignore_errors=True)
    (config,) = (tmp_path / "c.crate").rglob("*.ocio")
    assert colours_of(config) == before
    assert prove(tmp_path / "c.crate", os.environ, ANY, test=False).whole


def test_other_colours_in_the_crate_are_found_by_the_proof(tmp_path: Path) -> None:
    scene = write_styles(tmp_path / "show")
    crate = tmp_path / "c.crate"
    collect(open_trusted(scene), crate)
    content = read_packing_list(crate)
    (name,) = content.essentials.colours
    numbers = content.essentials.colours[name]
    assert set(numbers) == {"ref", "block", "flow", "nested", "quoted"} and all(
        len(one) == 36 for one in numbers.values()
    )
    # as if the scene's own configuration had done something else in one of them
    numbers["flow"] = tuple(one * 1.01 for one in numbers["flow"])
    write_packing_list(crate, content)
    proof = prove(crate, os.environ, ANY, test=False)
    assert not proof.whole and "other colours than in the scene by flow" in " ".join(proof.differs)


def test_a_table_that_is_missing_is_told_and_its_space_compares_as_one_that_fails(tmp_path: Path) -> None:
    scene = write_styles(tmp_path / "show", TABLES[:-1])
    survey = open_trusted(scene).survey()
    (lost,) = [asset for asset in survey.assets if asset.status is Status.MISSING]
    assert lost.authored == "sq01/six.spi1d"


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("ocio_profile_version: 9\n", "OpenColorIO cannot read it"),
        ("ocio_profile_version: 2\ncolorspaces: [\n", "OpenColorIO cannot read it"),
        ("ocio_profile_version: 2\ncolorspaces:\n  - !<ColorSpace> {to_scene_reference: 5}\n", "OpenColorIO cannot"),
    ],
)
def test_a_configuration_that_the_library_refuses_is_an_error(tmp_path: Path, text: str, why: str) -> None:
    scene = write_styles(tmp_path, text=text)
    found = [one for one in check_scene(open_trusted(scene)).findings if one.code == "layer-unread"]
    assert len(found) == 1 and why in found[0].message


def test_a_configuration_with_a_fault_that_can_be_read_is_a_warning(tmp_path: Path) -> None:
    scene = write_styles(tmp_path, text=STYLES.replace("default: ref", "default: gone"))
    found = [one for one in check_scene(open_trusted(scene)).findings if one.code == "colour-configuration-invalid"]
    assert len(found) == 1 and "gone" in found[0].message


def test_names_of_a_configuration_are_those_that_the_library_knows(tmp_path: Path) -> None:
    write_styles(tmp_path)
    names = names_in(tmp_path / "c.ocio")
    assert {"ref", "linear", "lin one", "block", "scene_linear", "screen", "plain", "grade"} <= names


def write_show(folder: Path) -> Path:
    """A scene whose files name files, some of them from outside the project. Returns the scene."""
    show, far = folder / "show", folder / "far"
    files = {
        show / "colour/c.ocio": OCIO.encode(),
        show / "colour/luts/film look.cube": b"lut",
        show / "common/luts/grade.spi1d": b"lut",
        show / "models/crate.obj": b"mtllib crate.mtl\nv 0 0 0\n",
        show / "models/crate.mtl": b"map_Kd wood.png\nmap_Ks gone.png\n",
        show / "models/wood.png": b"png",
        far / "mat/m.mtlx": MTLX.encode(),
        far / "mat/lib/base.mtlx": b'<materialx><input name="f" type="filename" value="../deep.png"/></materialx>',
        far / "mat/deep.png": b"deep",
        far / "mat/maps/a.1001.png": b"one",
        far / "mat/maps/a.1002.png": b"two",
        far / "mat/tex/b.png": b"b",
        show / "tidy-crate.toml": b"",
    }
    for path, data in files.items():
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
    scene = show / "s.usda"
    head = "(\ncolorConfiguration = @./colour/c.ocio@\n)"
    body = f'def Sphere "S" {{ asset obj = @./models/crate.obj@\nasset mat = @{(far / "mat/m.mtlx").as_posix()}@ }}'
    scene.write_text(usda(f"{head}\n{body}"))
    return scene


def test_s7_every_level_is_followed_and_what_is_missing_deep_down_is_told(tmp_path: Path) -> None:
    survey = open_trusted(write_show(tmp_path)).survey()
    by_name = {asset.authored: asset for asset in survey.assets}
    assert by_name["maps/a.<UDIM>.png"].files == 2
    assert by_name["../deep.png"].layer.name == "base.mtlx"
    assert by_name["grade.spi1d"].resolved == tmp_path / "show/common/luts/grade.spi1d"
    missing = [asset.authored for asset in survey.assets if asset.status is Status.MISSING]
    assert missing == ["gone.png"] and by_name["gone.png"].needed
    assert len({asset.id for asset in survey.assets}) == len(survey.assets)


def test_r2_a_crate_of_files_that_name_files_holds_without_the_originals(tmp_path: Path) -> None:
    scene = write_show(tmp_path)
    before = tree(tmp_path)
    collect(open_trusted(scene), tmp_path / "c.crate")
    assert {k: v for k, v in tree(tmp_path).items() if k in before} == before
    crate = tmp_path / "moved.crate"
    (tmp_path / "c.crate").rename(crate)
    expected = [
        a.members[0].path.read_bytes() for a in _found(open_trusted(scene).survey().assets) if a.kind == "texture"
    ]
    shutil.rmtree(tmp_path / "show")
    shutil.rmtree(tmp_path / "far")
    survey = open_trusted(crate / "s.staged.usda").survey_as_found()
    (missing,) = [asset.authored for asset in survey.assets if asset.status is Status.MISSING]
    assert missing.endswith("/gone.png") and "missing/" in missing
    after = [a.members[0].path.read_bytes() for a in _found(survey.assets) if a.kind == "texture"]
    assert sorted(after) == sorted(expected)
    assert all(m.path.is_relative_to(crate) for a in survey.assets for m in a.members)


def _found(assets: tuple[Asset, ...]) -> list[Asset]:
    return [asset for asset in assets if asset.members]


def test_a_file_that_is_not_what_it_should_be_is_named_and_still_packed(tmp_path: Path) -> None:
    (tmp_path / "m.mtlx").write_text("<materialx")
    scene = tmp_path / "s.usda"
    scene.write_text(usda('def Sphere "S" { asset mat = @./m.mtlx@ }'))
    trouble = [asset.trouble for asset in open_trusted(scene).survey().assets if asset.trouble]
    assert len(trouble) == 1 and "not well-formed" in trouble[0]
    collect(open_trusted(scene), tmp_path / "c.crate")
    assert (tmp_path / "c.crate" / "m.mtlx").read_text() == "<materialx"


PREFIXES = """<?xml version="1.0"?>
<materialx version="1.38" fileprefix="root/">
  <nodegraph name="g" fileprefix="maps/">
    <image name="i" type="color3"><input name="file" type="filename" value="a.png"/></image>
    <image name="k" type="color3" fileprefix="own/">
      <input name="file" type="filename" value="b.png" fileprefix="in/"/></image>
  </nodegraph>
  <image name="j" type="color3"><input name="file" type="filename" value="c &amp; d.png"/></image>
</materialx>
"""


def test_the_files_of_a_materialx_document_are_those_that_its_own_library_says(tmp_path: Path) -> None:
    mx = pytest.importorskip("MaterialX", reason="pip install MaterialX")

    def named(path: Path) -> dict[str, str]:
        document = mx.createDocument()
        mx.readFromXmlFile(document, str(path))
        inputs = (one for one in document.traverseTree() if one.isA(mx.Input) and one.getType() == "filename")
        return {one.getNamePath(): one.getResolvedValueString() for one in inputs}

    far = tmp_path / "far"
    far.mkdir()
    (far / "m.mtlx").write_text(PREFIXES)
    before = named(far / "m.mtlx")
    assert sorted(texts(MaterialX().links(far / "m.mtlx"))) == sorted(before.values())
    for name in before.values():
        (far / name).parent.mkdir(parents=True, exist_ok=True)
        (far / name).write_text(name)
    scene = tmp_path / "show/s.usda"
    scene.parent.mkdir()
    scene.write_text(usda(f'def Sphere "S" {{ asset mat = @{(far / "m.mtlx").as_posix()}@ }}'))
    collect(open_trusted(scene), tmp_path / "c.crate")
    shutil.rmtree(far)
    (there,) = (tmp_path / "c.crate").rglob("*.mtlx")
    after = named(there)
    assert {name: (there.parent / path).read_text() for name, path in after.items()} == before
