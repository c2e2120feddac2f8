"""What is not known here is told by name, and never taken for nothing."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import Run, open_trusted, usda
from tidy_crate.core.bake.run import bake
from tidy_crate.core.check.finding import Severity
from tidy_crate.core.check.result import CheckResult
from tidy_crate.core.check.run import check_scene

HEAD = "(\n startTimeCode = 1\n endTimeCode = 10\n)\n"


def check_of(folder: Path, body: str) -> CheckResult:
    scene = folder / "s.usda"
    scene.write_text(usda(HEAD + body))
    return check_scene(open_trusted(scene))


@pytest.mark.parametrize("kind", ["cloth", "jigle", "Jiggle", "spring follow"])
def test_a_simulation_of_no_kind_there_is_is_an_error_and_no_bake_takes_it(tmp_path: Path, run: Run, kind: str) -> None:
    body = f'def Mesh "Flag" {{\ncustom token tidy:simulation = "{kind}"\n}}\n'
    (found,) = [one for one in check_of(tmp_path, body).findings if one.code.startswith("simulation")]
    assert (found.code, found.severity) == ("simulation-refused", Severity.ERROR)
    assert repr(kind) in found.message and "jiggle, particles, springFollow" in found.message
    (failed,) = bake(open_trusted(tmp_path / "s.usda")).failed
    assert repr(kind) in failed.why
    told = run("bake", str(tmp_path / "s.usda"))
    assert told.code == 1 and "no simulation that this tool knows" not in told.out


@pytest.mark.parametrize(
    ("body", "name"),
    [
        ('def Mesh "Silk" ( prepend apiSchemas = ["LoomDeformableBodyAPI"] ) {\n}\n', "LoomDeformableBodyAPI"),
        ('def Mesh "Silk" ( prepend apiSchemas = ["TideFluidAPI:main"] ) {\n}\n', "TideFluidAPI:main"),
        ('def LoomClothSolver "Silk" {\n}\n', "LoomClothSolver"),
    ],
)
def test_a_plug_ins_schema_that_speaks_of_a_simulation_is_named(tmp_path: Path, body: str, name: str) -> None:
    found = [one for one in check_of(tmp_path, body).findings if one.code == "simulation-unknown"]
    assert [one.subject for one in found] == ["/Silk"] and name in found[0].message


@pytest.mark.parametrize(
    "body",
    [
        'def Mesh "M" ( prepend apiSchemas = ["LoomRenderStatsAPI"] ) {\n}\n',
        'def Points "P" {\n}\n',
        'def Mesh "M" ( prepend apiSchemas = ["MaterialBindingAPI", "PhysicsCollisionAPI"] ) {\n}\n',
    ],
)
def test_other_schemas_are_no_simulations(tmp_path: Path, body: str) -> None:
    assert not [one for one in check_of(tmp_path, body).findings if one.code == "simulation-unknown"]


def test_a_file_that_only_a_text_names_is_told_before_it_stays_behind(tmp_path: Path) -> None:
    (tmp_path / "lit").mkdir()
    for name in ("sign.png", "also.png", "old.png"):
        (tmp_path / "lit" / name).write_bytes(b"x")
    body = (
        'def Mesh "Sign" {\ncustom string sign:picture = "./lit/sign.png"\n'
        'custom string sign:gone = "./lit/gone.png"\ncustom string sign:version = "3.2"\n'
        'custom string sign:twice = "./lit/also.png"\ncustom asset sign:file = @./lit/also.png@\n}\n'
        'def RenderProduct "P" { token productName = "lit/old.png" }\n'
    )
    result = check_of(tmp_path, body)
    assert [one.subject for one in result.findings if one.code == "file-named-by-text"] == ["/Sign.sign:picture"]
    # the remedy holds: declared, it is collected
    (tmp_path / "tidy-crate.toml").write_text('settings_maps = ["sign.toml"]\n')
    (tmp_path / "sign.toml").write_text('renderer = "sign"\nnamespace = "sign:"\nfiles = ["sign:picture"]\n')
    context = open_trusted(tmp_path / "s.usda")
    assert not [one for one in check_scene(context).findings if one.code == "file-named-by-text"]
    assert "./lit/sign.png" in {asset.authored for asset in context.survey().assets}


@pytest.mark.parametrize("inside", [False, True])
def test_an_output_that_is_switched_off_is_named(tmp_path: Path, inside: bool) -> None:
    product = '{ token productName = "x.####.exr" }'
    off = "( active = false )"
    outputs = (
        f'def "Off" {off} {{ def RenderProduct "P" {product} }}' if inside else f'def RenderProduct "P" {off} {product}'
    )
    target = "</Off/P>" if inside else "</P>"
    body = f'def RenderSettings "R" {{ rel products = [{target}, </Q>] }}\n{outputs}\ndef RenderProduct "Q" {product}\n'
    found = [one for one in check_of(tmp_path, body).findings if target[1:-1] in one.subject + one.message]
    assert any(one.code in ("output-switched-off", "target-gone") for one in found), found
