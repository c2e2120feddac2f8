"""check, waive and farm as a user types them."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from conftest import Run
from traps import CARD, TRAPS, Shot, all_of, scene, sheet


@pytest.fixture
def shot(tmp_path: Path) -> Shot:
    (tmp_path / "shot").mkdir()
    return Shot(tmp_path / "shot")


TROUBLES = all_of(
    TRAPS["file-missing"], TRAPS["output-path-empty"], TRAPS["resolution-odd"], TRAPS["samples-very-high"]
)


def test_findings_are_grouped_by_what_to_do_next_and_what_blocks_comes_first(shot: Shot, run: Run) -> None:
    TROUBLES(shot)
    done = run.here("check", shot.write())
    assert done.code == 1
    places = [done.out.index(word) for word in (
        "Find the files", "relink", "file-missing", "Let --mend fix these", "output-path-empty",
        "Look and decide", "samples-very-high", "For information", "resolution-odd", "Blocked: 3 errors",
    )]  # fmt: skip
    assert places == sorted(places)
    # a line says where and what; why and the remedy come with -v
    assert "Render time grows with the samples" not in done.out
    assert "Render time grows with the samples" in run.here("check", shot.folder / "s.usda", "-v").out


def test_mends_are_made_listed_and_taken_back(shot: Shot, run: Run) -> None:
    TRAPS["output-path-empty"](shot)
    file = shot.write()
    done = run.here("check", file, "--mend")
    assert done.code == 0 and "renders/q/s_q.####.exr" in done.out and "--take-back" in done.out
    assert "right in the staged copy" in done.out
    document = run.here("check", file, "--mend", "--json").json
    assert document["mended"] == [] and [one["code"] for one in document["mends"]] == ["output-path-empty"]
    assert [one["code"] for one in document["settled"]] == ["output-path-empty"]
    back = run.here("check", file, "--take-back", "output-path-empty", "--json")
    assert back.code == 1 and [one["subject"] for one in back.json["taken_back"]] == ["q"]
    assert run.here("check", file, "--take-back", "output-path-empty").code == 2


def test_waived_findings_are_listed_with_reason_name_and_date(shot: Shot, run: Run) -> None:
    TRAPS["samples-very-high"](shot)
    file = shot.write()
    assert run.here("waive", file, "samples-very-high", "--because", "fur needs them", "--by", "Wren").code == 0
    assert run.here("waive", file, "frames-nothing-moves", "--because", "old", "--by", "Wren").code == 0
    done = run.here("check", file)
    assert "fur needs them (Wren, 20" in done.out and "1 waived" in done.out
    assert "The waiver of frames-nothing-moves has no effect: it matches nothing any more." in done.out
    assert run.here("waive", file, "samples-very-high", "--because", " ").code == 2
    assert run.here("collect", file, "-o", shot.folder.parent / "s.crate").code == 0
    assert "fur needs them" in run.here("check", shot.folder.parent / "s.crate").out


def test_several_farms_stand_in_one_table_with_a_verdict_each(shot: Shot, run: Run) -> None:
    TRAPS["version-newer"](shot)
    file = shot.write()
    (shot.folder / "tern.farm.toml").write_text(CARD.replace('name = "gull"', 'name = "tern"', 1))
    strange = CARD.replace('name = "gull"', 'name = "heron"', 1).replace('"DE-BY"', '"IS"')
    (shot.folder / "heron.farm.toml").write_text(strange)
    words = [word for name in ("gull", "tern", "heron") for word in ("--farm", shot.folder / f"{name}.farm.toml")]
    done = run.here("check", file, *words)
    rows = {line.split()[0]: line for line in done.out.splitlines() if line.startswith(("gull ", "tern ", "heron "))}
    assert done.code == 1 and "free at gull, tern" in done.out
    assert "look first" in rows["gull"] and "ready" in rows["tern"] and "blocked" in rows["heron"]
    document = run.here("check", file, *words, "--json").json
    assert [(farm["farm"], farm["blocked"]) for farm in document["farms"]] == [
        ("gull", False), ("tern", False), ("heron", True),
    ]  # fmt: skip
    assert {f["farm"] for f in document["findings"] if f["code"] == "version-newer"} == {"gull"}
    assert run.here("check", file, *words, *words[:2]).code == 2


def test_a_check_is_explained_and_all_are_listed(run: Run) -> None:
    done = run.here("check", "--explain", "simulation-live")
    assert (done.code, "a different motion than their neighbours" in done.out) == (0, True)
    wrong = run.here("check", "--explain", "simulation-life")
    assert (wrong.code, "did you mean simulation-live?" in wrong.err) == (2, True)
    checks = run.here("check", "--catalogue", "--json").json["checks"]
    assert len(checks) >= 60 and {"code", "severity", "why", "asks_farm", "mendable"} <= set(checks[0])
    assert "Confidentiality" in run.here("check", "--catalogue").out
    assert run.here("check").code == 2


def test_the_page_shows_hostile_names_and_runs_none(shot: Shot, run: Run, tmp_path: Path) -> None:
    sheet(scripts=["<script>alert(1)</script>", "\u202egnp.exe"], fonts=["<img src=x onerror=y>"])(shot)
    done = run.here(
        "check", shot.write(), "--farm", shot.folder / "gull.farm.toml", "--page", tmp_path / "p" / "page.html"
    )
    text = (tmp_path / "p" / "page.html").read_text(encoding="utf-8")
    assert done.code == 1 and "&lt;script&gt;alert(1)" in text
    assert "<script" not in text and "<img" not in text and "\u202e" not in text
    assert "font-not-on-nodes" in text and "Blocked" in text and "https:" not in text


@pytest.mark.parametrize(
    ("name", "text", "what", "remedy"),
    [
        (
            "gull.farm.toml",
            CARD.replace("memory_gb", "memory_mb"),
            "unknown key 'memory_mb'",
            "'memory_gb'",
        ),
        ("brief.toml", "[frames]\nstart = 10\nend = 1\n", "the frames end at 1, before they start at 10", None),
        ("tidy-crate.toml", '[severity]\n"file-missing" = "fatal"\n', "wrong at 'severity.file-missing'", None),
        ("tidy-crate.toml", '[severity]\n"file-mising" = "note"\n', "there is no check of that code", "file-missing?"),
        ("tidy-crate.toml", 'settings_maps = ["brush.toml"]\nbrief = "gone.toml"\n', "cannot read the brief", None),
        (
            "brush.toml",
            'renderer = "b"\nnamespace = "b:"\n[means]\n"b:x" = "sample"\n',
            "a meaning that is not known",
            None,
        ),
    ],
)
def test_what_people_wrote_wrong_is_one_clear_error(
    name: str, text: str, what: str, remedy: str | None, shot: Shot, run: Run
) -> None:
    file = shot.write()
    (shot.folder / name).write_text(text)
    done = run.here("check", file, "--farm", shot.folder / "gull.farm.toml", "--brief", shot.folder / "brief.toml")
    assert done.code == 2 and what in done.err and "Traceback" not in done.err
    assert remedy is None or remedy in done.err


@pytest.mark.parametrize(
    "words",
    [
        ("--mend", "--take-back", "all"),
        ("--score-here", "0"),
        ("--page", "tidy-crate.toml/page.html"),
        ("--brief", "."),
        ("--farm", "nowhere"),
    ],
)
def test_what_cannot_work_is_refused_before_anything_is_written(words: tuple[str, ...], shot: Shot, run: Run) -> None:
    TRAPS["output-path-empty"](shot)
    shot.write()
    done = run.here("check", "s.usda", *words, cwd=shot.folder)
    assert done.code == 2 and "unexpected error" not in done.err and "Traceback" not in done.err
    assert not (shot.folder / "s.tidy").exists()


def test_a_brief_is_named_on_the_command_line_too(shot: Shot, run: Run) -> None:
    file = shot.write()
    other = shot.folder / "other.toml"
    other.write_text('passes = ["normal"]\n')
    found = run.here("check", file, "--brief", other, "--json")
    assert found.code == 1 and [f["code"] for f in found.json["findings"] if f["severity"] == "error"] == [
        "brief-pass-missing"
    ]


def test_checks_of_another_package_are_found_by_their_entry_point(shot: Shot, run: Run, tmp_path: Path) -> None:
    site = tmp_path / "site"
    (site / "studio-1.0.dist-info").mkdir(parents=True)
    (site / "studio-1.0.dist-info" / "METADATA").write_text("Metadata-Version: 2.1\nName: studio\nVersion: 1.0\n")
    (site / "studio-1.0.dist-info" / "entry_points.txt").write_text("[tidy_crate.checks]\nstudio = studio_checks\n")
    module = site / "studio_checks.py"
    module.write_text(
        "from tidy_crate.core.check.finding import Severity, Trouble, check\n"
        '@check("studio-name", Severity.WARNING, "C1")\n'
        "def name(scene):\n"
        '    """The studio wants its initials in front of every scene that leaves the house."""\n'
        '    yield Trouble(scene.survey.scene.name, "no initials", "rename it")\n'
    )
    env = {"PYTHONPATH": str(site) + os.pathsep + os.environ.get("PYTHONPATH", "")}
    file = shot.write()
    codes = {f["code"] for f in run("check", file, "--json", env=env).json["findings"]}
    assert "studio-name" in codes
    assert "initials in front" in run("check", "--explain", "studio-name", env=env).out
    # a package whose checks cannot be loaded is named, and so is one that takes a code that there is already
    for text, what in (
        ("import nothing_of_the_kind\n", "ModuleNotFoundError"),
        (module.read_text().replace("studio-name", "file-missing"), "a check file-missing already"),
    ):
        module.write_text(text)
        done = run("check", file, env=env)
        assert done.code == 2 and what in done.err and "studio_checks" in done.err


def test_farm_new_check_add_list_and_show(run: Run, tmp_path: Path) -> None:
    home = {"TIDY_CRATE_HOME": str(tmp_path / "home")}
    assert run.here("farm", "new", "harbour", cwd=tmp_path).code == 0
    path = tmp_path / "harbour.farm.toml"
    again = run.here("farm", "new", "harbour", cwd=tmp_path)
    assert again.code == 2 and "already" in again.err
    open_keys = {one["key"] for one in run.here("farm", "check", path, "--json").json["left_open"]}
    assert {"program", "nodes.fonts", "operator.places"} <= open_keys
    assert run("farm", "add", path, env=home).code == 0
    assert run("farm", "show", "harbour", "--json", env=home).json["name"] == "harbour"
    assert [one["name"] for one in run("farm", "list", "--json", env=home).json["farms"]] == ["harbour"]
    assert run.here("farm", "schema", "--json").json["title"] == "FarmCard"
    path.write_text(path.read_text().replace("score = 100", 'score = "fast"'))
    wrong = run.here("farm", "check", path)
    assert wrong.code == 2 and "machine.0.score" in wrong.err and ", line " in wrong.err
    unreachable = run("farm", "test", "harbour", env=home)
    assert unreachable.code == 2 and "has no address" in unreachable.err


def test_c12_a_scene_saved_after_it_was_collected_is_told_at_the_crate(shot: Shot, run: Run, tmp_path: Path) -> None:
    file, crate = shot.write(), tmp_path / "s.crate"
    assert run.here("collect", file, "-o", crate).code == 0
    assert "scene-changed-since-collect" not in run.here("check", crate).out
    scene("brush:rays = 64", "brush:rays = 65")(shot)
    shot.write()
    done = run.here("check", crate)
    assert "scene-changed-since-collect" in done.out and "s.usda" in done.out
    assert run.here("collect", file, "-o", crate).code == 0
    assert "scene-changed-since-collect" not in run.here("check", crate).out


def test_a_long_list_is_cut_short_and_all_shows_it(shot: Shot, run: Run) -> None:
    many = "\n".join(f"asset b{at} = @./gone{at}.png@" for at in range(30))
    scene("asset a = @./a.png@", f"asset a = @./a.png@\n{many}")(shot)
    file = shot.write()
    short, long = run.here("check", file).out, run.here("check", file, "--all").out
    assert "and 22 more" in short and "gone29.png" not in short and "gone29.png" in long
