"""The worked example of a package that adds a check, a follower, a farm link and a kind of simulation."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import Run, usda
from traps import png

EXAMPLE = Path(__file__).parents[1] / "examples/studio_extras"
SCENE = """( defaultPrim = "W"
endTimeCode = 24
startTimeCode = 1
upAxis = "Z"
metersPerUnit = 1 )
def Xform "W" {
def Cube "Sign" {
token tidy:simulation = "swing"
double tidy:swing:degrees = 30
asset list = @wall.swatches@ } }
"""
CARD = """name = "attic"
url = "shelf:attic"
currency = "EUR"
rates_from = 2026-11-01
practice = true
[[machine]]
name = "m"
nodes = 1
score = 100
memory_gb = 8
price_per_hour = "1"
"""


@pytest.fixture(scope="module")
def site(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder into which the package is built and installed as a user would, without the network."""
    target = tmp_path_factory.mktemp("site")
    line = [sys.executable, "-m", "pip", "install", "-q", "--no-deps", "--no-index", "--no-build-isolation"]
    done = subprocess.run([*line, "--target", target, EXAMPLE], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    return target


def test_a_package_brings_a_check_a_follower_a_link_and_a_simulation(site: Path, run: Run, tmp_path: Path) -> None:
    env = {
        "PYTHONPATH": str(site) + os.pathsep + os.environ.get("PYTHONPATH", ""),
        "TIDY_CRATE_HOME": str(tmp_path / "h"),
    }
    scene = tmp_path / "show/sign.usda"
    scene.parent.mkdir()
    scene.write_text(usda(SCENE))
    # surveyed before the package is there: what was kept of it must not hold afterwards
    plain = run("survey", scene, "--json", env={"TIDY_CRATE_HOME": str(tmp_path / "h")}).json
    assert [one["kind"] for one in plain["simulations"]] == ["unknown"] and len(plain["assets"]) == 1
    (scene.parent / "wall.swatches").write_text("# two\nswatch paint/red.png\nswatch paint/blue.png\n")
    (scene.parent / "paint").mkdir()
    for name in ("red", "blue"):
        (scene.parent / f"paint/{name}.png").write_bytes(png())

    found = run("survey", scene, "--json", env=env).json
    assert [one["kind"] for one in found["simulations"]] == ["swing"]
    assert {asset["authored"] for asset in found["assets"]} == {"wall.swatches", "paint/red.png", "paint/blue.png"}

    codes = {one["code"] for one in run("check", scene, "--json", env=env).json["findings"]}
    assert {"studio-initials", "simulation-live"} <= codes

    assert run("bake", scene, "--order-proof", env=env).code == 1
    baked = run("bake", scene, "--json", env=env)
    assert baked.code == 0 and baked.json["baked"], baked.err
    assert run("bake", scene, "--order-proof", env=env).code == 0

    crate = tmp_path / "sign.crate"
    assert run("collect", scene, "-o", crate, "--json", env=env).json["missing"] == []
    assert len(list(crate.rglob("*.png"))) == 2 and "swatch" in next(crate.rglob("*.swatches")).read_text()

    card = tmp_path / "attic.farm.toml"
    card.write_text(CARD)
    tried = run("farm", "test", card, "--json", env=env)
    assert tried.code == 0 and tried.json["balance"] == "100"
    refused = run("send", crate, "--farm", card, "--yes", env=env)
    assert refused.code != 0 and "Traceback" not in refused.err


def test_a_package_brings_a_resolver_of_its_own_identifiers(site: Path, run: Run, tmp_path: Path) -> None:
    scene, store = tmp_path / "show/s.usda", tmp_path / "show/store"
    store.mkdir(parents=True)
    scene.write_text(usda('def Sphere "S" {\nasset a = @card:oak@\nasset b = @card:gone@\n}\n'))
    (store / "oak.png").write_bytes(png())
    (store / "index.txt").write_text("oak 7 oak.png\n")
    home = {"TIDY_CRATE_HOME": str(tmp_path / "h")}
    own = home | {"PYTHONPATH": str(site) + os.pathsep + os.environ.get("PYTHONPATH", "")}
    own["STUDIO_CARD_INDEX"] = str(store / "index.txt")
    # without the package the identifiers mean nothing here
    assert {one["status"] for one in run("survey", scene, "--json", env=home).json["assets"]} == {"missing"}
    found = {one["authored"]: one for one in run("survey", scene, "--json", env=own).json["assets"]}
    assert (found["card:oak"]["status"], found["card:oak"]["version"]) == ("found", "7")
    assert found["card:gone"]["trouble"] == "it is not in the card index"
