"""The package as it is released: wheel and source archive, built and installed into an environment of their own."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import sysconfig
import tarfile
import venv
import zipfile
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]


def done(line: list[object], **more: object) -> str:
    """Run a program to its good end, and return what it printed."""
    found = subprocess.run(list(map(str, line)), capture_output=True, text=True, check=False, **more)  # type: ignore[call-overload]
    assert found.returncode == 0, found.stdout + found.stderr
    return str(found.stdout)


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, Path]:
    """The wheel, built from the source archive, and that archive: what is not in it cannot be in the wheel."""
    folder = tmp_path_factory.mktemp("built")
    # somebody's checkout, with an environment and notes of their own beside what belongs in the archive
    checkout = folder / "checkout"
    shutil.copytree(
        ROOT, checkout, ignore=shutil.ignore_patterns(".*", "__pycache__", "venv*", "build", "dist", "site")
    )
    for stray in ("env/bin/python", ".venv-test/pyvenv.cfg", "notes.txt", ".ci/run", "frames/a.exr"):
        (checkout / stray).parent.mkdir(parents=True, exist_ok=True)
        (checkout / stray).write_text("mine\n")
    done([sys.executable, "-m", "hatchling", "build", "-t", "sdist", "-d", folder], cwd=checkout)
    (archive,) = folder.glob("*.tar.gz")
    with tarfile.open(archive) as opened:
        opened.extractall(folder / "source", filter="data")
    (source,) = (folder / "source").iterdir()
    done([sys.executable, "-m", "hatchling", "build", "-t", "wheel", "-d", folder], cwd=source)
    (wheel,) = folder.glob("*.whl")
    return wheel, archive


def test_the_released_files_hold_all_that_is_needed_and_nothing_else(built: tuple[Path, Path]) -> None:
    wheel, archive = built
    with zipfile.ZipFile(wheel) as opened:
        names = opened.namelist()
    own = {path.relative_to(ROOT / "src").as_posix() for path in (ROOT / "src").rglob("*") if path.is_file()}
    own = {name for name in own if "__pycache__" not in name}
    assert own <= set(names) and {name.split("/")[0] for name in names if "dist-info" not in name} == {"tidy_crate"}
    assert any(name.endswith("LICENSE") for name in names)
    with tarfile.open(archive) as opened:
        listed = {name.partition("/")[2] for name in opened.getnames()}
    assert {name.partition("/")[0] for name in listed} - {""} == {
        "src", "tests", "docs", "docs_theme", "examples", "benchmarks", "CHANGELOG.md", "CONTRIBUTING.md", "LICENSE",
        "README.md", "SECURITY.md", "mkdocs.yml", "pyproject.toml", "PKG-INFO",
    }  # fmt: skip
    assert not [name for name in listed if "__pycache__" in name or name.endswith(".pyc")]


def test_the_wheel_works_in_an_environment_of_its_own(built: tuple[Path, Path], tmp_path: Path) -> None:
    wheel, _ = built
    place = tmp_path / "venv"
    venv.create(place, with_pip=False, symlinks=os.name != "nt")
    python = place / ("Scripts/python.exe" if os.name == "nt" else "bin/python")
    site = Path(done([python, "-c", "import sysconfig; print(sysconfig.get_path('purelib'))"]).strip())
    line = [
        sys.executable,
        "-m",
        "pip",
        "install",
        "-q",
        "--no-deps",
        "--no-index",
        "--no-compile",
        "--target",
        site,
        wheel,
    ]
    done(line)
    # what it depends on is that of this environment, which has the tool itself by another way
    others = [path for path in Path(sysconfig.get_path("purelib")).iterdir() if "tidy_crate" not in path.name]
    (site / "others").mkdir()
    for path in others:
        (site / "others" / path.name).symlink_to(path)
    (site / "others.pth").write_text("others\n")
    env = {name: value for name, value in os.environ.items() if name != "PYTHONPATH"}
    env |= {"TIDY_CRATE_HOME": str(tmp_path / "home"), "NO_COLOR": "1"}
    where = done([python, "-c", "import tidy_crate; print(tidy_crate.__file__, tidy_crate.__version__)"], env=env)
    assert str(place) in where
    told = done([python, "-m", "tidy_crate", "demo", tmp_path / "d", "--scene-only"], env=env, cwd=tmp_path).strip()
    assert done([python, "-m", "tidy_crate", "survey", told], env=env, cwd=tmp_path).startswith("scene")


def test_every_benchmark_finds_what_it_imports() -> None:
    folder = ROOT / "benchmarks"
    names = sorted(path.stem for path in folder.glob("*.py"))
    assert {"rows", "soak", "calibrate", "fuzz"} <= set(names)
    line = f"import importlib; [importlib.import_module(name) for name in {names}]; import fuzz; fuzz.targets()"
    done([sys.executable, "-c", line], cwd=folder)
