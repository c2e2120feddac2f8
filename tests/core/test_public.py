"""Scenes of others. Opt-in: `TIDY_CRATE_PUBLIC_FILES=FOLDER pytest tests/core/test_public.py`.

The folder may hold any OpenUSD and glTF files; unpacked packages that ship some will do (for instance `warp-lang` and
`newton` from the package index, and Debian's `assimp-testmodels`). Against USD's own dependency pass, and against
every URI in a glTF file.
"""

from __future__ import annotations

import json
import os
import struct
from pathlib import Path
from urllib.parse import unquote

import pytest

from tidy_crate.core.check.finding import Severity
from tidy_crate.core.check.run import check_scene
from tidy_crate.core.context.scene import open_scene
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.packing import read_packing_list
from tidy_crate.core.crate.proving import prove_here
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.scene.model import Status

FOLDER = os.environ.get("TIDY_CRATE_PUBLIC_FILES")
FILES = sorted(Path(FOLDER).rglob("*")) if FOLDER else []
USD = [path for path in FILES if path.suffix in (".usd", ".usda", ".usdc")]
GLTF = [path for path in FILES if path.suffix in (".gltf", ".glb")]

pytestmark = pytest.mark.skipif(not FOLDER, reason="TIDY_CRATE_PUBLIC_FILES names no folder")


@pytest.mark.parametrize("path", USD, ids=lambda path: path.name)
def test_the_closure_of_a_usd_file_is_the_one_that_usd_reports(path: Path, tmp_path: Path) -> None:
    from pxr import UsdUtils

    context = open_scene(path, tmp_path)
    ours = {str(member.path) for asset in context.survey().assets for member in asset.members}
    layers, assets, unresolved = UsdUtils.ComputeAllDependencies(str(path))
    reported = {layer.realPath for layer in layers} | {str(asset) for asset in assets}
    assert ours == reported - {str(path)}
    assert_whole(path, tmp_path, bool(unresolved))


@pytest.mark.parametrize("path", USD, ids=lambda path: path.name)
def test_the_bodies_of_a_usd_file_move_plausibly_or_it_is_said_why_they_do_not(path: Path) -> None:
    import numpy as np
    from pxr import Usd, UsdGeom

    from tidy_crate.core.errors import TidyCrateError
    from tidy_crate.core.scene.formats.usd.simulation.interface import Pose
    from tidy_crate.core.scene.formats.usd.simulation.registry import find_all
    from tidy_crate.core.scene.formats.usd.simulation.running import Running

    stage = Usd.Stage.Open(str(path))
    for simulation in find_all(stage):
        try:
            running = Running(stage, simulation, simulation.start)
            running.go_to(simulation.start + stage.GetTimeCodesPerSecond())
        except TidyCrateError as error:
            assert error.what and simulation.path in str(error)
            continue
        places = [np.array(value.matrix)[3, :3] for value in running.values() if isinstance(value, Pose)]
        # a second after it was let go nothing is far away
        assert np.isfinite(places).all()
        assert all(np.abs(place).max() * UsdGeom.GetStageMetersPerUnit(stage) < 200 for place in places)


@pytest.mark.parametrize("path", GLTF, ids=lambda path: path.name)
def test_every_external_file_of_a_gltf_file_is_found(path: Path, tmp_path: Path) -> None:
    data = path.read_bytes()
    if data[:4] == b"glTF":
        data = data[20 : 20 + struct.unpack("<I", data[12:16])[0]]
    try:
        content = json.loads(data)
    except ValueError:
        content = {}
    if not str(content.get("asset", {}).get("version", "")).startswith("2."):
        with pytest.raises(UnreadableInput):
            open_scene(path, tmp_path).survey()
        return
    named = [one["uri"] for table in ("buffers", "images") for one in content.get(table, []) if one.get("uri")]
    expected = {os.path.normpath(path.parent / unquote(uri)) for uri in named if not uri.startswith("data:")}
    found = {str(asset.resolved) for asset in open_scene(path, tmp_path).survey().assets}
    # extensions may name more
    assert expected <= found
    assert_whole(path, tmp_path, any(not Path(one).is_file() for one in found))


def assert_whole(path: Path, tmp_path: Path, lacking: bool) -> None:
    """A crate of it is whole, unless files are missing in the first place."""
    crate = tmp_path / "c.crate"
    collect(open_scene(path, tmp_path), crate)
    proof = prove_here(crate, read_packing_list(crate), tmp_path, None, None)
    assert proof.whole or lacking, proof
    assert not proof.outside and not proof.changed and not proof.differs


@pytest.mark.parametrize("path", USD + GLTF, ids=lambda path: path.name)
def test_checks_raise_no_false_error_about_files(path: Path, tmp_path: Path) -> None:
    try:
        context = open_scene(path, tmp_path)
        result = check_scene(context)
    except UnreadableInput as error:
        assert error.what  # glTF of version 1
        return
    missing = {asset.authored for asset in context.survey().assets if asset.status is not Status.FOUND}
    serious = [one for one in result.findings if one.severity is not Severity.NOTE]
    # what USD itself, or the disk, does not find is missing indeed
    assert {one.subject for one in serious if one.code.startswith(("file-", "layer-"))} <= missing
    assert not any("the check itself failed" in f.message for f in result.findings)
