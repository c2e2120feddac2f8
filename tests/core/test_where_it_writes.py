"""X4: nothing is written outside the folder that it is for, whatever links and names a stranger brings."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from conftest import ANY, Run, open_trusted, tree, usda
from tidy_crate.core.bake.run import bake
from tidy_crate.core.context.scene import open_scene
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.prove import prove
from tidy_crate.core.errors import Blocked, TidyCrateError, UnreadableInput
from tidy_crate.core.work.trust import NotTrusted, Trust

PNG = b"\x89PNG\r\n\x1a\n" + bytes(56)
JIGGLE = """(defaultPrim = "Ferry"
 startTimeCode = 1
 endTimeCode = 3)
def Xform "Ferry" { double3 xformOp:translate.timeSamples = { 1: (0, 0, 0), 3: (1, 0, 0) }
    uniform token[] xformOpOrder = ["xformOp:translate"] }
def Xform "Rig" { custom token tidy:simulation = "springFollow"
    custom double tidy:simulation:start = 1
    custom rel tidy:spring:target = </Ferry>
    custom double tidy:spring:frequency = 2
    custom double tidy:spring:dampingRatio = 0.5 }"""


def scene(show: Path, *names: str) -> Path:
    show.mkdir(parents=True, exist_ok=True)
    for name in names:
        (show / name).parent.mkdir(parents=True, exist_ok=True)
        (show / name).write_bytes(PNG)
    lines = "\n".join(f"asset a{at} = @./{name}@" for at, name in enumerate(names))
    (show / "s.usda").write_text(usda(f'(defaultPrim = "W")\ndef Scope "W" {{ {lines} }}'))
    return show / "s.usda"


@pytest.mark.parametrize("alias", ["/abs", "../..", "..", ".", "", "a/b", "a\\b", "c:", "project", "CON", "-x", "é"])
def test_an_alias_that_would_lead_out_of_the_crate_is_refused(alias: str, tmp_path: Path) -> None:
    file = scene(tmp_path / "show", "a.png")
    text = alias.replace("\\", "\\\\")
    (tmp_path / "show" / "tidy-crate.toml").write_text(f'[roots]\n"{text}" = "../lib"\n')
    with pytest.raises(UnreadableInput, match="not an alias"):
        open_scene(file)


@pytest.mark.parametrize("planted", ["tex", "deep/er"])
def test_a_link_planted_in_an_earlier_crate_is_refused_and_nothing_is_touched(planted: str, tmp_path: Path) -> None:
    file = scene(tmp_path / "show", "tex/a.png", "deep/er/b.png")
    crate, home = tmp_path / "c.crate", tmp_path / "home"
    collect(open_trusted(file), crate)
    home.mkdir()
    for name in ("a.png", "b.png"):
        (home / name).write_bytes(b"mine")
    for path in (crate / planted).iterdir():
        path.unlink()
    (crate / planted).rmdir()
    (crate / planted).symlink_to(home)
    before = tree(home)
    with pytest.raises(Blocked, match="a link stands where"):
        collect(open_trusted(file), crate)
    # what the next crate no longer needs is not deleted through it either
    scene(tmp_path / "show", "other.png")
    with pytest.raises(Blocked, match="a link stands where"):
        collect(open_trusted(file), crate)
    assert tree(home) == before
    (crate / planted).unlink()
    (crate / "other.png").symlink_to(home / "a.png")  # the link itself gives way
    assert collect(open_trusted(file), crate).complete and tree(home) == before


@pytest.mark.parametrize("how", ["link", "caches", "project file"])
def test_decisions_and_caches_are_kept_elsewhere_only_where_the_user_agrees(how: str, tmp_path: Path) -> None:
    show, home = tmp_path / "show", tmp_path / "home"
    show.mkdir()
    home.mkdir()
    (show / "s.usda").write_text(usda(JIGGLE))
    if how == "link":
        (show / "s.tidy").symlink_to(home)
    elif how == "caches":
        (show / "s.tidy").mkdir()
        (show / "s.tidy" / "caches").symlink_to(home)
    else:
        (show / "tidy-crate.toml").write_text(f'tidy_dir = "{home.as_posix()}"\n')
    strict = open_scene(show / "s.usda", trust=Trust(tmp_path / "trusted.json"))
    assert strict.survey().simulations
    for change in (
        lambda: bake(strict),
        lambda: strict.file.add("waive", [{"code": "x", "because": "y"}]),
        lambda: collect(strict, tmp_path / "c.crate"),
    ):
        with pytest.raises(NotTrusted, match="outside the project"):
            change()
    assert not list(home.iterdir()) and not (tmp_path / "c.crate").exists()
    assert bake(open_trusted(show / "s.usda")).baked
    # the user's own option needs no other word
    assert open_scene(show / "s.usda", home).file.may_write() is None


def test_a_log_is_not_written_through_a_link(tmp_path: Path) -> None:
    import sys

    from tidy_crate.core.process import run_program

    (tmp_path / "mine").write_text("mine")
    (tmp_path / "log").symlink_to(tmp_path / "mine")
    run_program([sys.executable, "-c", "print('yours')"], tmp_path, os.environ, 60, log=tmp_path / "log")
    assert (tmp_path / "mine").read_text() == "mine" and (tmp_path / "log").read_text().strip() == "yours"


@pytest.mark.skipif(os.name == "nt", reason="no such names there")
def test_a_name_that_is_a_path_elsewhere_gets_a_plain_one_in_the_crate(tmp_path: Path) -> None:
    names = ["a:b.png", "a\\b.png", "a_b.png", "d:r/x.1001.png", "d:r/x.1002.png", "..\\up.png"]
    file = scene(tmp_path / "show", *names)
    text = file.read_text().replace("@./d:r/x.1001.png@", "@./d:r/x.<UDIM>.png@")
    file.write_text(text)
    crate = tmp_path / "c.crate"
    result = collect(open_trusted(file), crate)
    files = {path for path in tree(crate) if path.endswith(".png")}
    assert result.complete and not any(mark in path for path in files for mark in "\\:") and len(files) == len(names)
    assert prove(crate, os.environ, ANY, test=False).whole
    from pxr import Usd

    stage = Usd.Stage.Open(str(result.scene))
    prim = stage.GetPrimAtPath("/W")
    for number, name in enumerate(names):
        value = prim.GetAttribute(f"a{number}").Get()
        path = value.path.replace("<UDIM>", "1001")
        assert (result.scene.parent / path).read_bytes() == PNG, name


def test_frames_do_not_come_home_through_a_link(run: Run, tmp_path: Path) -> None:
    from pathlib import PurePosixPath

    from tidy_crate.core.files import refuse_links

    (tmp_path / "frames").mkdir()
    (tmp_path / "home").mkdir()
    refuse_links(tmp_path / "frames", [PurePosixPath("Beauty/deep"), PurePosixPath(".")])
    (tmp_path / "frames" / "Beauty").symlink_to(tmp_path / "home")
    with pytest.raises(TidyCrateError, match="a link stands"):
        refuse_links(tmp_path / "frames", [PurePosixPath("Beauty/deep")])
    # the folder itself may be one: the user named it
    (tmp_path / "alias").symlink_to(tmp_path / "home")
    refuse_links(tmp_path / "alias", [PurePosixPath("Beauty")])
