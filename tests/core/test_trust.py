"""X4: commands of a project run only where the user has agreed, with no token, and within limits."""

from __future__ import annotations

import os
import py_compile
import subprocess
import sys
import time
from pathlib import Path

import psutil
import pytest

from conftest import Run, usda
from tidy_crate import api
from tidy_crate.core import process
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.patterns import pattern
from tidy_crate.core.process import run_program, without_tokens
from tidy_crate.core.work.running import Commands
from tidy_crate.core.work.trust import Claim, NotTrusted, Trust

PROBE = """
[render]
command = ["{python}", "{script}", "{output_folder}"]
"""
SCENE = """(defaultPrim = "W"
 startTimeCode = 1
 endTimeCode = 2
 renderSettingsPrimPath = "/Render/S")
def Camera "Eye" {}
def Scope "Render" {
    def RenderSettings "S" { rel products = </Render/P>
    int2 resolution = (4, 4) }
    def RenderProduct "P" { token productName = "p.####.png"
    rel camera = </Eye> }
}"""


def command(*words: str) -> Claim:
    return Claim("render", words)


def test_trust_is_of_a_folder_and_a_command_and_a_changed_one_is_another(tmp_path: Path) -> None:
    show, script = tmp_path / "show", tmp_path / "show" / "render.py"
    show.mkdir()
    script.write_text("1")
    trust = Trust(tmp_path / "home" / "trusted.json")
    words = ("python", "render.py", "{scene}")
    assert not trust.holds([show], words)
    trust.add(show, [command(*words)])
    assert trust.holds([show], words) and trust.holds([show / "q010"], words)
    assert not trust.holds([tmp_path / "other"], words) and not trust.holds([tmp_path], words)
    assert not trust.holds([show], (*words, "--more"))
    script.write_text("2")
    assert not trust.holds([show], words)
    # where a link leads is what counts
    (tmp_path / "link").symlink_to(show)
    trust.add(tmp_path / "link", [command("x")])
    assert trust.holds([show], ("x",)) and trust.remove(show) and not trust.remove(show)
    trust_file = tmp_path / "home" / "trusted.json"
    trust_file.write_text('{"trusted": [1]}')
    with pytest.raises(UnreadableInput, match="damaged"):
        trust.holds([show], words)


def edit(path: Path) -> None:
    path.write_text(path.read_text() + "\n")


@pytest.fixture
def project(tmp_path: Path) -> Path:
    """A project with programs of its own, in every way that a command may name them."""
    show = tmp_path / "show"
    texts = {
        "tools/a.py": "import helper", "tools/helper.py": "1", "tools/deep/more.py": "1", "tools/notes.txt": "1",
        "bin/run": "#!/bin/sh", "studio/__init__.py": "", "studio/render.py": "1", "top.py": "import studio",
        "beside.py": "1",
        "textures/wood.png": "1", "plain/b.lua": "1",
    }  # fmt: skip
    for name, text in texts.items():
        (show / name).parent.mkdir(parents=True, exist_ok=True)
        (show / name).write_text(text)
    with (show / "bin" / "large").open("wb") as out:
        out.truncate(20 << 20)
    (tmp_path / "elsewhere.sh").write_text("1")
    (show / "linked.sh").symlink_to(tmp_path / "elsewhere.sh")
    return Path(os.path.realpath(show))


COVERED: dict[str, tuple[tuple[str, ...], str]] = {
    "a script": (("python", "tools/a.py"), "tools/a.py"),
    "a script in an option": (("python", "--script=tools/a.py"), "tools/a.py"),
    "a script in a shell's words": (("sh", "-c", "cd /tmp && python 'tools/a.py' --fast"), "tools/a.py"),
    "a script in env's words": (("env", "-S", "A=1 python tools/a.py"), "tools/a.py"),
    "what a script imports": (("python", "tools/a.py"), "tools/helper.py"),
    "what a script imports from below": (("python", "tools/a.py"), "tools/deep/more.py"),
    "code in a folder that is named": (("host", "-p", "plain"), "plain/b.lua"),
    "a folder that a shell goes to": (("sh", "-c", "cd tools; python a.py"), "tools/helper.py"),
    "a folder in a variable": (("env", "PYTHONPATH=tools:plain", "python", "x"), "plain/b.lua"),
    "a module": (("python", "-m", "studio.render"), "studio/render.py"),
    "a module in a shell's words": (("sh", "-c", "python -m studio.render x"), "studio/render.py"),
    "a package beside a script": (("python", "top.py"), "studio/render.py"),
    "a module beside a script": (("python", "top.py"), "beside.py"),
    "a large program": (("bin/large",), "bin/large"),
    "a program": (("bin/run", "{scene}"), "bin/run"),
    "a path from the root": (("python", "{root}/tools/a.py"), "tools/a.py"),
    "the target of a link": (("linked.sh",), "../elsewhere.sh"),
}


@pytest.mark.parametrize("name", COVERED)
def test_an_edit_of_what_a_command_runs_is_asked_about(name: str, project: Path, tmp_path: Path) -> None:
    words, changed = COVERED[name]
    words = tuple(word.replace("{root}", str(project)) for word in words)
    trust = Trust(tmp_path / "home" / "trusted.json")
    trust.add(project, [command(*words)])
    # what the command does not run may change: pictures, notes, scenes, what an interpreter compiles
    edit(project / "textures" / "wood.png")
    edit(project / "tools" / "notes.txt")
    (project / "tools" / "__pycache__").mkdir()
    (project / "tools" / "__pycache__" / "a.cpython-311.pyc").write_bytes(b"1")
    assert trust.holds([project], words)
    edit(project / changed)
    assert not trust.holds([project], words)


def test_a_link_that_leads_elsewhere_and_a_new_module_are_asked_about(project: Path, tmp_path: Path) -> None:
    trust = Trust(tmp_path / "home" / "trusted.json")
    trust.add(project, [command("linked.sh"), command("python", "tools/a.py")])
    (tmp_path / "other.sh").write_text("1")
    (project / "linked.sh").unlink()
    (project / "linked.sh").symlink_to(tmp_path / "other.sh")
    assert not trust.holds([project], ("linked.sh",))
    assert trust.holds([project], ("python", "tools/a.py"))
    # it would be imported in place of the library
    (project / "tools" / "json.py").write_text("1")
    assert not trust.holds([project], ("python", "tools/a.py"))
    # a pipe is no program, and hangs nothing
    if hasattr(os, "mkfifo"):
        os.mkfifo(project / "tools" / "pipe.py")
        os.mkfifo(project / "pipe")
        assert not trust.holds([project], ("python", "tools/a.py")) and not trust.holds([project], ("sh", "pipe"))


def test_what_a_render_command_reads_is_agreed_to_with_it(tmp_path: Path) -> None:
    trust = Trust(tmp_path / "home" / "trusted.json")
    claim = Claim("render", ("draw", "{scene}"), reads=("/opt/draw",))
    trust.add(tmp_path, [claim])
    agreed = Commands((tmp_path,), (claim,), trust)
    agreed.need(claim.words, claim.reads)
    for words, reads in ((claim.words, ("/opt/draw", "/home")), (claim.words, ()), ((*claim.words, "/opt/draw"), ())):
        with pytest.raises(NotTrusted):
            agreed.need(words, reads)


def test_what_is_compiled_beside_a_script_is_not_run(tmp_path: Path) -> None:
    """Python would take it for the script's module, if its header says so."""
    script, module = tmp_path / "draw.py", tmp_path / "colours.py"
    script.write_text("import colours; print(colours.NAME)")
    module.write_text("NAME = 'blue'")
    claim = command("{python}", str(script))
    trust = Trust(tmp_path / "home" / "trusted.json")
    trust.add(tmp_path, [claim])
    compiled = Path(py_compile.compile(str(module)) or "")
    head = compiled.read_bytes()[:16]
    module.write_text("NAME = 'evil'")
    code = Path(py_compile.compile(str(module), cfile=str(tmp_path / "x.bin")) or "").read_bytes()[16:]
    compiled.write_bytes(head + code)
    module.write_text("NAME = 'blue'")
    os.utime(module, (int.from_bytes(head[8:12], "little"),) * 2)
    assert "evil" in run_program([sys.executable, str(script)], tmp_path, os.environ, 60).text
    done = Commands((tmp_path,), (claim,), trust, os.environ).run(claim.words, {}, tmp_path, 60)
    assert "blue" in done.text


def test_trust_shows_what_is_covered_and_what_is_not(project: Path, run: Run) -> None:
    (project / "tidy-crate.toml").write_text(
        '[render]\ncommand = ["python", "tools/a.py", "{scene}", "{output_folder}"]\nreads = ["/opt/brushes"]\n'
    )
    (project / "s.usda").write_text(usda(SCENE))
    shown = run.here("trust", project, "--show", "--json").json["claims"][0]
    assert shown["covers"] == ["tools/a.py", "tools/deep/more.py", "tools/helper.py"] and shown["folders"] == ["tools"]
    assert shown["not_covered"] == ["python: a program of this machine"] and shown["reads"] == ["/opt/brushes"]
    text = run.here("trust", project, "--show").out
    for part in ("tools/  (3 files of code)", "/opt/brushes  (may be read", "not covered: python: a program of this"):
        assert part in text, text


@pytest.fixture
def strange(tmp_path: Path) -> Path:
    """A project from somebody else, whose render command notes what it can see."""
    show = tmp_path / "show"
    show.mkdir()
    script = show / "render.py"
    script.write_text("import os, sys; open(sys.argv[1] + '/ran', 'w').write(repr(dict(os.environ)))")
    (show / "tidy-crate.toml").write_text(PROBE.replace("{script}", script.as_posix()))
    (show / "s.usda").write_text(usda(SCENE))
    return show


def test_the_program_refuses_a_strangers_command_until_it_is_trusted(strange: Path, run: Run, tmp_path: Path) -> None:
    crate = tmp_path / "s.crate"
    assert run.here("collect", strange / "s.usda", "-o", crate).code == 0
    for words in (("prove", crate), ("probe", crate)):
        refused = run.here(*words)
        assert refused.code == 2 and "you have not trusted" in refused.err and "| render: {python} " in refused.err
    assert run.here("prove", crate, "--no-test-frame").code == 0
    shown = run.here("trust", strange, "--show", "--json").json
    assert [(one["purpose"], one["trusted"]) for one in shown["claims"]] == [("render", False)]
    assert run.here("trust", strange, "--json").json["claims"][0]["trusted"]
    # the crate was made here from a trusted project, so it needs no answer of its own
    tokens = {"TIDY_CRATE_TOKEN_HARBOUR": "hush-1", "TIDY_CRATE_LEDGER": "postgresql://me:hush-2@db/x"}
    failed = run("probe", crate, env=tokens)
    assert "wrote nothing for" in failed.err, failed.err
    seen = next(tmp_path.rglob("ran")).read_text()
    assert "PATH" in seen and "hush" not in seen
    (strange / "tidy-crate.toml").write_text(PROBE.replace("{script}", "-c"))
    assert run.here("collect", strange / "s.usda", "-o", crate).code == 0
    assert run.here("probe", crate).code == 2
    assert run.here("trust", strange, "--forget", "--json").json["forgotten"]


@pytest.mark.skipif(sys.platform == "win32", reason="a terminal of POSIX")
def test_at_a_terminal_it_asks_and_takes_no_for_an_answer(strange: Path, run: Run, tmp_path: Path) -> None:
    (tmp_path / "library").mkdir()
    (tmp_path / "library" / "oak.png").write_bytes(b"\x89PNG\r\n\x1a\n")
    scene, crate = strange / "s.usda", tmp_path / "s.crate"
    scene.write_text(scene.read_text() + 'def Scope "F" {\nasset a = @../library/oak.png@\n}\n')
    refused = run.at_terminal("n\n", "collect", scene, "-o", crate)
    assert refused.code == 1 and "outside the project. Allow them in the crate?" in refused.err and not crate.exists()
    assert run.at_terminal("y\n", "collect", scene, "-o", crate).code == 0
    refused = run.at_terminal("n\n", "probe", crate)
    assert refused.code == 2 and "render.py" in refused.err and "Allow them from now on?" in refused.err
    assert "wrote nothing for" in run.at_terminal("y\n", "probe", crate).err
    # not asked again
    assert "wrote nothing for" in run("probe", crate).err


def test_a_crate_of_somebody_else_is_asked_about_by_itself(strange: Path, run: Run, tmp_path: Path) -> None:
    archive = tmp_path / "s.zip"
    assert run.here("collect", strange / "s.usda", "-o", tmp_path / "s.crate", "--archive", archive).code == 0
    elsewhere = tmp_path / "received" / "s.zip"
    elsewhere.parent.mkdir()
    archive.rename(elsewhere)
    user = api.User.here({"TIDY_CRATE_HOME": str(tmp_path / "own"), "PATH": os.environ["PATH"]})
    with pytest.raises(NotTrusted) as refused:
        api.prove(elsewhere, user=user)
    assert refused.value.folder == elsewhere
    assert api.trust(elsewhere, user=user).trusted == (True,)
    assert not api.prove(elsewhere, user=user).holds  # it ran, and wrote no picture


def test_tokens_stay_out_of_an_environment() -> None:
    told = {"TIDY_CRATE_TOKEN_A": "x", "tidy_crate_ledger": "x", "STUDIO": "x", "PATH": "/bin", "TIDY_CRATE_HOME": "h"}
    assert without_tokens(told, ["STUDIO"]) == {"PATH": "/bin", "TIDY_CRATE_HOME": "h"}


def python(text: str) -> list[str]:
    return [sys.executable, "-c", text]


def test_a_helper_takes_no_module_from_the_working_folder(tmp_path: Path, run: Run) -> None:
    """A stranger's folder may hold a `json.py`."""
    for name in ("json", "tidy_crate", "typing"):
        (tmp_path / f"{name}.py").write_text(f"open({str(tmp_path / 'ran')!r}, 'w')")
    (tmp_path / "s.usda").write_text(usda('def "A" {}'))
    line, environment = process.own_helper("tidy_crate", "survey", "s.usda", "--json")
    ended = run_program(line, tmp_path, environment, 60)
    assert ended.code == 0 and not (tmp_path / "ran").exists(), ended.text


def test_the_output_of_a_program_is_bounded_and_its_start_and_end_are_kept(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(process, "KEPT_HEAD", 1000)
    monkeypatch.setattr(process, "KEPT_TAIL", 1 << 16)
    lines: list[str] = []
    text = "import sys; print('first'); sys.stdout.write('x' * 3_000_000 + '\\nlast')"
    ended = run_program(python(text), tmp_path, os.environ, 60, log=tmp_path / "log", on_line=lines.append)
    assert ended.text.startswith("first") and ended.text.endswith("last") and "bytes left out" in ended.text
    assert len(ended.output) < 200_000 and (tmp_path / "log").read_bytes() == ended.output
    assert [lines[0], len(lines[1]), lines[2]] == ["first", process.LONGEST_LINE, "last"]


@pytest.mark.skipif(sys.platform == "win32", reason="a daemon's way of starting")
@pytest.mark.parametrize("ends", [True, False])
def test_what_a_program_leaves_behind_ends_with_it(tmp_path: Path, ends: bool) -> None:
    """It left its family and its session, and holds the output open."""
    note = tmp_path / "pid"
    text = (
        "import os, sys, time\n"
        "if os.fork() == 0:\n"
        "    os.setsid()\n"
        "    if os.fork() == 0:\n"
        f"        open({str(note)!r}, 'w').write(str(os.getpid())); time.sleep(600)\n"
        "    os._exit(0)\n"
        f"while not os.path.exists({str(note)!r}): time.sleep(0.01)\n"
        f"time.sleep({0 if ends else 600})"
    )
    began = time.monotonic()
    ended = run_program(python(text), tmp_path, os.environ, 2)
    assert ended.late is not ends and time.monotonic() - began < 20
    assert not psutil.pid_exists(int(note.read_text())) or psutil.Process(int(note.read_text())).status() == "zombie"


def test_a_projects_pattern_takes_time_in_line_with_the_text() -> None:
    began = time.monotonic()
    assert pattern(r"(?P<frame>(\d+)+)$", "frame_done", ["frame"]).search("1" * 50_000 + "x") is None
    assert time.monotonic() - began < 5
    for text, why in (("(", "not a valid"), ("(?=x)", "not a valid"), ("x", "no group `frame`"), ("x" * 3000, "long")):
        with pytest.raises(UnreadableInput, match=why):
            pattern(text, "frame_done", ["frame"])


def test_nothing_of_the_folder_that_one_stands_in_is_loaded(tmp_path: Path) -> None:
    """A folder from somebody else may bring entry points, and modules named like those that are imported."""
    bait = tmp_path / "bait"
    info = tmp_path / "bait-1.0.dist-info"
    info.mkdir()
    (info / "METADATA").write_text("Metadata-Version: 2.1\nName: bait\nVersion: 1.0\n")
    (info / "entry_points.txt").write_text("[tidy_crate.checks]\nbait = bait\n[tidy_crate.resolvers]\nbait = bait:x\n")
    for name in ("bait", "typer", "re2", "yaml"):
        (tmp_path / f"{name}.py").write_text(f"open({str(bait)!r}, 'a').write('{name} ')\n")
    done = subprocess.run(
        [sys.executable, "-m", "tidy_crate", "check", "--catalogue"],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stderr
    assert not bait.exists(), bait.read_text()
