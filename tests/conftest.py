"""Shared by all tests: the demo scene in a temporary folder, and the built program run as a user runs it."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import subprocess
import sys
import tempfile
import threading
import time
import warnings
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings
from typer.testing import CliRunner

import zygote
from tidy_crate.cli.app import app
from tidy_crate.core.bake.run import bake
from tidy_crate.core.check.decide import mend
from tidy_crate.core.context.relink import apply_relinks, propose
from tidy_crate.core.context.scene import SceneContext, open_scene
from tidy_crate.core.crate.collect import collect
from tidy_crate.core.crate.packing import read_packing_list
from tidy_crate.core.crate.proving import prove_here
from tidy_crate.core.process import without_tokens
from tidy_crate.core.work.running import Commands
from tidy_crate.core.work.trust import Agreed
from tidy_crate.practice.demo.scene import DemoScene, write_demo_scene

# how long an example takes says something about the machine, and nothing about the code
settings.register_profile("untimed", deadline=None)
settings.load_profile("untimed")

# as if the user had agreed to every command of every project
ANY = Commands(trust=Agreed(), environment=without_tokens(os.environ))
MATTE = "renders/matte/lantern_quay_matte.####.exr"


@dataclass(frozen=True)
class Outcome:
    """Outcome of a command."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


class Run:
    """Runs the built program as a user does, in a home of its own."""

    def __init__(self, home: Path) -> None:
        self.environment = os.environ | {"TIDY_CRATE_HOME": str(home), "NO_COLOR": "1", "COLUMNS": "140"}
        # by the folders of other packages that they know, processes that fork
        self._warm: dict[str, subprocess.Popen[str]] = {}
        self._outputs = home.parent / f"{home.name}-outputs"
        self._lock = threading.Lock()

    def __call__(self, *words: object, cwd: Path | None = None, env: dict[str, str] | None = None) -> Outcome:
        """Run it as a process of its own: a fork of one that has everything imported, where there is fork."""
        if hasattr(os, "fork") and not {"PYTHONIOENCODING", "PYTHONUTF8", "LC_ALL"} & set(env or {}):
            return self._forked(list(map(str, words)), cwd, self.environment | (env or {}))
        return self.cold(*words, cwd=cwd, env=env)

    def cold(self, *words: object, cwd: Path | None = None, env: dict[str, str] | None = None) -> Outcome:
        """Run it from the start, interpreter and all."""
        line = [sys.executable, "-m", "tidy_crate", *map(str, words)]
        environment = self.environment | (env or {})
        done = subprocess.run(
            line, cwd=cwd, env=environment, stdin=subprocess.DEVNULL, capture_output=True, timeout=280, check=False
        )
        return Outcome(done.returncode, done.stdout.decode(), done.stderr.decode())

    def close(self) -> None:
        """End the process that forks."""
        for process in self._warm.values():
            process.communicate()
        self._warm.clear()

    def _forked(self, words: list[str], cwd: Path | None, environment: dict[str, str]) -> Outcome:
        with self._lock:
            packages = environment.get("PYTHONPATH", "")
            warm = self._warm.get(packages)
            if warm is not None and warm.poll() is not None:
                # something ended it between two tests; what it was is told once, and no test fails for it
                warnings.warn(f"the process that forks had ended with {warm.returncode}", stacklevel=2)
                warm = None
            if warm is None:
                self._outputs.mkdir(exist_ok=True)
                warm = self._warm[packages] = subprocess.Popen(
                    [sys.executable, Path(__file__).parent / "warm.py"], stdin=subprocess.PIPE, stdout=subprocess.PIPE,
                    text=True, env=self.environment | ({"PYTHONPATH": packages} if packages else {}),
                )  # fmt: skip
                assert warm.stdout is not None and warm.stdout.readline() == "ready\n"
            assert warm.stdin is not None and warm.stdout is not None
            out, err = self._outputs / "out", self._outputs / "err"
            out.write_bytes(b"")
            err.write_bytes(b"")
            order = {"words": words, "env": environment, "cwd": str(cwd or Path.cwd()), "out": str(out),
                     "err": str(err), "encoding": sys.stdout.encoding or "utf-8"}  # fmt: skip
            warm.stdin.write(json.dumps(order) + "\n")
            warm.stdin.flush()
            code = int(warm.stdout.readline())
            return Outcome(code, out.read_bytes().decode(), err.read_bytes().decode())

    def at_terminal(
        self, answers: str, *words: object, cwd: Path | None = None, env: dict[str, str] | None = None
    ) -> Outcome:
        """The same with somebody at the keyboard, who gives these answers."""
        import pty

        ours, theirs = pty.openpty()
        line = [sys.executable, "-m", "tidy_crate", *map(str, words)]
        with subprocess.Popen(
            line, cwd=cwd, stdin=theirs, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
            env=self.environment | (env or {}),
        ) as process:  # fmt: skip
            os.write(ours, answers.encode())
            out, err = process.communicate(timeout=120)
        os.close(ours)
        os.close(theirs)
        return Outcome(process.returncode, out.decode(), err.decode())

    def here(self, *words: object, cwd: Path | None = None) -> Outcome:
        """The same in this process: a second quicker, for what does not hang on being a program of its own."""
        with contextlib.chdir(cwd or Path.cwd()):
            done = CliRunner().invoke(app, list(map(str, words)), env=self.environment)
        return Outcome(done.exit_code, done.stdout, done.stderr)


@pytest.fixture(scope="session", autouse=True)
def helpers() -> Iterator[None]:
    """Helper processes start at once in all tests."""
    with zygote.served():
        yield


@pytest.fixture(scope="session", autouse=True)
def nothing_unforeseen() -> Iterator[None]:
    """Fail where the program met an error that it does not know: it leaves a report among the temporary files."""
    began = time.time()
    yield
    reports = [path for path in Path(tempfile.gettempdir()).glob("tidy-crate-error-*") if path.stat().st_mtime >= began]
    assert not reports, "\n".join(path.read_text(errors="replace") for path in reports)


@pytest.fixture(scope="session")
def run(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Run]:
    """The program with a fresh home."""
    found = Run(tmp_path_factory.mktemp("home"))
    yield found
    found.close()


@pytest.fixture
def demo(tmp_path: Path) -> DemoScene:
    """The demo scene as the artist saved it, troubles and all."""
    return write_demo_scene(tmp_path / "show")


@pytest.fixture
def context(demo: DemoScene) -> SceneContext:
    """The demo scene opened."""
    return open_scene(demo.scene)


def open_trusted(scene: Path, tidy_dir: Path | None = None, survey_cache: Path | None = None) -> SceneContext:
    """Open a scene whose commands, and folders outside of it, the user has agreed to."""
    return open_scene(scene, tidy_dir, survey_cache, trust=ANY.trust, environment=ANY.environment)


def make_ready(demo: DemoScene) -> SceneContext:
    """Relink, bake and mend, as a wrangler would."""
    context = open_trusted(demo.scene)
    maps = [("Q:\\lantern_quay", str(demo.project))]
    apply_relinks(context, propose(context.survey(), [demo.archive], maps))
    bake(open_trusted(demo.scene))
    mend(open_trusted(demo.scene), lambda: open_trusted(demo.scene))
    return open_trusted(demo.scene)


@pytest.fixture(scope="session")
def packed(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[SceneContext, Path]]:
    """Yield a ready demo scene and its crate, shared by tests that only read them; fail at the end if one wrote."""
    folder = tmp_path_factory.mktemp("packed")
    context = make_ready(write_demo_scene(folder / "show"))
    crate = folder / "quay.crate"
    collect(context, crate)
    before = tree(crate)
    yield context, crate
    assert tree(crate) == before, "a test wrote into the shared crate: let it take the fixture `crate`"


@pytest.fixture
def crate(packed: tuple[SceneContext, Path], tmp_path: Path) -> Iterator[Path]:
    """A crate of its own for a test that spoils it."""
    target = tmp_path / "quay.crate"
    shutil.copytree(packed[1], target)
    yield target


def is_whole(crate: Path) -> bool:
    """Return whether a crate is proven complete, in this process. The sandbox has tests of its own."""
    with tempfile.TemporaryDirectory() as scratch:
        return prove_here(crate, read_packing_list(crate), Path(scratch), None, "not asked for").whole


def tree(folder: Path) -> dict[str, bytes]:
    """Every file below a folder with its bytes."""
    return {
        path.relative_to(folder).as_posix(): path.read_bytes() for path in sorted(folder.rglob("*")) if path.is_file()
    }


def usda(text: str) -> str:
    """A layer from a text that may hold several statements on a line, which the format itself does not allow."""
    return "#usda 1.0\n" + text.replace("{ ", "{\n").replace(" }", "\n}") + "\n"


# files that take longest: begun last, one of them would keep a single worker busy at the end
LONG = (
    "test_story", "test_kills", "test_orders", "test_crate", "test_send_command", "test_drop", "test_fuzz",
    "test_results_command", "test_caches", "test_job", "test_estimate", "test_links", "test_farm", "test_cluster",
    "test_examples", "test_api", "test_extending",
)  # fmt: skip


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Begin with the files that take longest."""
    ranks = {name: rank for rank, name in enumerate(LONG)}
    items.sort(key=lambda item: ranks.get(item.path.stem, len(LONG)))
