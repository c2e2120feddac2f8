"""Sending as a user does: a plan, wishes and their origins, hundreds of variants, two farms of which one dies."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from conftest import Run, usda
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.practice.farm import control
from tidy_crate.practice.farm.settings import FarmSettings

# what is rendered does not matter here
TINY = ("--size", "64x36", "--samples", "1")

CARD = "practice.farm.toml"


@contextmanager
def farms(folder: Path, *names: str, **settings: object) -> Iterator[list[Path]]:
    """Practice farms under names of their own."""
    cards = []
    usual = {"nodes": 4, "synthetic_seconds": 20, "startup_seconds": 30}
    try:
        for name in names:
            control.start(folder / name, FarmSettings.model_validate(usual | settings))
            text = (folder / name / CARD).read_text().replace('name = "practice"\ntitle', f'name = "{name}"\ntitle')
            card = folder / name / f"{name}.farm.toml"
            card.write_text(text)
            cards.append(card)
        yield cards
    finally:
        for name in names:
            control.stop(folder / name)


@pytest.fixture
def home(tmp_path: Path) -> dict[str, str]:
    """A user of this test's own."""
    (tmp_path / "home").mkdir()
    return {"TIDY_CRATE_HOME": str(tmp_path / "home")}


def test_x1_a_plan_shows_all_and_sends_nothing(
    packed: tuple[SceneContext, Path], run: Run, home: dict[str, str], tmp_path: Path
) -> None:
    with farms(tmp_path, "gull") as (card,):
        out = run("send", packed[1], "--farm", card, "--plan", "--frames", "1001-1004", "--json", env=home)
        assert out.code == 0, out.err
        (plan,) = out.json["plan"]
        assert plan["tasks"] == 4 and plan["upload_bytes"] > 0 and plan["differences"][0]["what"] == "frames"
        assert run("jobs", "--json", env=home).json["jobs"] == []
        refused = run("send", packed[1], "--farm", card, env=home)
        assert refused.code == 2 and "--yes" in refused.err
        bad = run("send", packed[1], "--farm", card, "--order", "backwards", "--plan", env=home)
        assert bad.code == 2 and "--order" in bad.err
        much = run("send", packed[1], "--farm", card, "--cap", "10 USD", "--plan", env=home)
        assert much.code == 2 and "bills in EUR" in much.err


def test_u9_wishes_come_from_card_user_project_and_command_line(
    packed: tuple[SceneContext, Path], run: Run, home: dict[str, str], tmp_path: Path
) -> None:
    crate = tmp_path / "show" / "quay.crate"
    shutil.copytree(packed[1], crate)
    (tmp_path / "show/tidy-crate.toml").write_text('[send]\nsamples = 3\n[send.farm.gull]\norder = "spread"\n')
    (tmp_path / "home/config.toml").write_text("[send]\nbatch = 9\nsamples = 2\n")
    with farms(tmp_path, "gull") as (card,):
        card.write_text(card.read_text() + "\n[send]\nretries = 7\nbatch = 1\n")
        out = run("send", crate, "--farm", card, "--show-defaults", "--size", "50%", "--json", env=home)
        assert out.code == 0, out.err
        found = {one["name"]: (one["value"], one["origin"]) for one in out.json["wishes"]}
        project = str(tmp_path / "show/tidy-crate.toml")
        assert found == {
            "batch": (9, "user's configuration"), "order": ("spread", project), "retries": (7, "card gull"),
            "start": ("at-once", "built in"), "size": ("50%", "command line"), "samples": (3, project),
        }  # fmt: skip


def test_s9_hundreds_of_variants_go_as_one_job_or_as_one_each(run: Run, home: dict[str, str], tmp_path: Path) -> None:
    scene = tmp_path / "show" / "looks.usda"
    scene.parent.mkdir()
    looks = "\n".join(f'            "look{number}" {{\n            }}' for number in range(300))
    scene.write_text(
        usda(
            '( endTimeCode = 1\n startTimeCode = 1\n upAxis = "Z"\n renderSettingsPrimPath = "/Render/Settings" )\n'
            'def Camera "Camera" { }\ndef Xform "Chair" (\n    variants = { string look = "look0" }\n'
            f'    prepend variantSets = "look"\n)\n{{\n    variantSet "look" = {{\n{looks}\n    }}\n}}\n'
            'def Scope "Render" { def RenderSettings "Settings" { rel camera = </Camera>\n'
            "rel products = </Render/Beauty>\nuniform int2 resolution = (64, 36) }\n"
            'def RenderProduct "Beauty" { token productName = "renders/chair.####.exr"\n'
            'rel orderedVars = </Render/colour> }\ndef RenderVar "colour" { string sourceName = "beauty" } }'
        )
    )
    crate = tmp_path / "looks.crate"
    assert run("collect", scene, "-o", crate, env=home).code == 0
    with farms(tmp_path, "gull") as (card,):
        every = ("--farm", card, "--variant", "/Chair:look=*", "--yes", "--json")
        out = run("send", crate, *every, env=home)
        assert out.code == 0, out.err
        view = run("track", out.json["job"], "--follow", "--json", env=home).json
        assert view["done"] == 300 and len({row["view"] for row in view["frames"]}) == 300
        came = run("retrieve", out.json["job"], "--into", tmp_path / "frames", "--json", env=home).json
        assert came["at_home"] == 300 and (tmp_path / "frames/look17/Beauty/chair.0001.exr").is_file()
        few = ("--farm", card, "--variant", "/Chair:look=look1", "--variant", "/Chair:look=look2", "--yes", "--json")
        apart = run("send", crate, *few, "--each-view-apart", env=home)
        assert apart.code == 0 and len({one["job"] for one in apart.json["jobs"]}) == 2


def test_u6_two_farms_share_a_job_one_dies_and_the_other_takes_the_rest(
    packed: tuple[SceneContext, Path], run: Run, home: dict[str, str], tmp_path: Path
) -> None:
    with farms(tmp_path, "gull", "tern", clock=16, startup_seconds=2) as (gull, tern):
        words = ("--share", "gull=1", "--share", "tern=2", "--batch", "2", *TINY, "--yes", "--json")
        out = run("send", packed[1], "--farm", gull, "--farm", tern, *words, env=home)
        assert out.code == 0, out.err
        job = out.json["job"]
        assert [one["tasks"] for one in out.json["submissions"]] == [16, 32]
        run("retrieve", job, "--into", tmp_path / "frames", env=home)
        control.stop(tmp_path / "tern")
        away = run("track", job, env=home)
        assert away.code == 3 and "nothing answers there" in away.err
        rest = run("handover", job, "--from", "tern", "--to", gull, "--yes", "--json", env=home)
        assert rest.code == 0, rest.err
        came = run("retrieve", job, "--into", tmp_path / "frames", "--follow", "--json", env=home)
        assert came.code == 0 and came.json["at_home"] == 96, came.out[:2000] + came.err
        view = run("track", job, "--json", env=home).json
        assert view["state"] == "done" and [one["given_up"] for one in view["at"]] == [False, True, False]
        names = [path.name for path in (tmp_path / "frames/Beauty").iterdir()]
        assert len(names) == 48 and not (tmp_path / "frames/set-aside").exists()
        page = tmp_path / "page.html"
        assert run("track", job, "--page", page, env=home).code == 0 and "given up" in page.read_text()


def test_own_machines_run_no_command_of_a_crate_that_is_not_trusted(
    packed: tuple[SceneContext, Path], run: Run, home: dict[str, str], tmp_path: Path
) -> None:
    card = tmp_path / "studio.farm.toml"
    card.write_text(
        'name = "studio"\nurl = "dask://127.0.0.1:9"\ncurrency = "EUR"\nrates_from = 2026-11-01\npractice = true\n'
        f'[operator]\nkind = "own"\n[cluster]\nshared = "{(tmp_path / "shared").as_posix()}"\n'
        '[[machine]]\nname = "m"\nnodes = 1\nscore = 100\nmemory_gb = 8\nprice_per_hour = 1\n'
    )
    refused = run("send", packed[1], "--farm", card, "--yes", env=home)
    assert refused.code == 2 and "tidy-crate trust" in refused.err and not (tmp_path / "shared").exists()
    assert run("trust", packed[1], env=home).code == 0
    unmounted = run("send", packed[1], "--farm", card, "--yes", env=home)
    assert unmounted.code == 3 and "shared storage is not there" in unmounted.err and not (tmp_path / "shared").exists()
    (tmp_path / "shared").mkdir()
    away = run("send", packed[1], "--farm", card, "--yes", env=home)
    assert away.code == 3 and "scheduler cannot be reached" in away.err
