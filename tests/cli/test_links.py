"""Farms that are reached by links of another package, from the command line."""

from __future__ import annotations

import os
import shutil
from pathlib import Path

import pytest

from conftest import Run
from tidy_crate.core.context.scene import SceneContext

HERE = Path(__file__).parents[1]
CARD = """name = "{name}"
url = "{scheme}:{file}"
currency = "EUR"
rates_from = 2026-11-20
practice = true
[operator]
kind = "own"
[[machine]]
name = "m"
nodes = 2
score = 100
memory_gb = 8
price_per_hour = "1.00"
"""


@pytest.fixture
def env(tmp_path: Path) -> dict[str, str]:
    """A place where another package with two links is installed."""
    site = tmp_path / "site"
    info = site / "studio_links-1.0.dist-info"
    info.mkdir(parents=True)
    (info / "METADATA").write_text("Metadata-Version: 2.1\nName: studio-links\nVersion: 1.0\n")
    (info / "entry_points.txt").write_text(
        "[tidy_crate.farm_links]\nmemory = farms:open_memory\nfolder = farms:open_memory\nbroken = farms_gone:open\n"
    )
    shutil.copy(HERE / "farms.py", site)
    for name, scheme in (("harbour", "memory"), ("shelf", "folder"), ("wreck", "broken"), ("far", "gopher")):
        (tmp_path / f"{name}.farm.toml").write_text(
            CARD.format(name=name, scheme=scheme, file=tmp_path / f"{name}.bin")
        )
    path = str(site) + os.pathsep + os.environ.get("PYTHONPATH", "")
    return {"PYTHONPATH": path, "TIDY_CRATE_HOME": str(tmp_path / "home")}


@pytest.mark.parametrize("name", ["harbour", "shelf"])
def test_a_job_goes_its_way_over_a_link_that_is_not_http(
    name: str, env: dict[str, str], packed: tuple[SceneContext, Path], run: Run, tmp_path: Path
) -> None:
    card = tmp_path / f"{name}.farm.toml"
    signed_in = run("farm", "test", card, env=env)
    sent = run("send", packed[1], "--farm", card, "--frames", "1001-1012", "--yes", "--json", env=env)
    assert sent.code == 0 and sent.json["submissions"][0]["uploaded_bytes"] > 0
    job = sent.json["job"]
    home = run("retrieve", job, "--into", tmp_path / "frames", "--follow", "--json", env=env)
    assert home.code == 0 and len(home.json["retrieved"]) == 24 and home.json["missing"] == []
    view = run("track", job, "--json", env=env)
    assert view.code == 0 and view.json["state"] == "done" and len(view.json["frames"]) == 24
    assert {"request", "frame", "tile", "output", "state", "node", "seconds", "cost", "attempt"} <= set(
        view.json["frames"][0]
    )
    assert run("review", job, env=env).code == 1
    again = run("rerender", job, "--yes", "--json", env=env)
    stopped = run("cancel", job, "--yes", env=env)
    if name == "harbour":
        assert signed_in.code == 0 and "100 EUR left" in signed_in.out
        assert again.code == 0 and len(again.json["tasks"]) == 12
        more = run("retrieve", job, "--into", tmp_path / "frames", "--json", env=env)
        assert {one["attempt"] for one in more.json["retrieved"]} == {2}
        assert stopped.code == 0
    else:
        # what the farm cannot do is said, with what to do instead
        assert signed_in.code == 3 and "does not tell its balance" in signed_in.err
        assert again.code == 3 and "cannot change a job" in again.json["error"]["what"]
        assert stopped.code == 3 and "by hand" in stopped.err


def test_a_link_that_cannot_be_loaded_or_is_not_installed_is_named(
    env: dict[str, str], run: Run, tmp_path: Path
) -> None:
    broken = run("farm", "test", tmp_path / "wreck.farm.toml", env=env)
    assert broken.code == 2 and "'broken' of the package studio-links cannot be loaded" in broken.err
    assert "pip uninstall studio-links" in broken.err and "Traceback" not in broken.err
    far = run("farm", "test", tmp_path / "far.farm.toml", env=env)
    assert far.code == 3 and "nothing is installed that reaches a farm this way" in far.err
    assert "folder:" in far.err and "http:" in far.err
