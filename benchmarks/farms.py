"""Practice farms for the rows that send and retrieve, and `curl` on the same bytes beside them."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
import subprocess
import sys
from pathlib import Path

import httpx
from scenes import SHOT, write_layered_frames

from tidy_crate.core.crate.packing import read_packing_list
from tidy_crate.core.files import hash_file, read_json
from tidy_crate.practice.farm import control
from tidy_crate.practice.farm.settings import FarmSettings, load_settings

MIB = 1 << 20
CARD = f"{{}}/farm/{control.CARD_NAME}"
CURL = ["curl", "--fail", "-K", "{}/curl.txt"]


def write_scene(folder: Path, files: dict[str, int], last: int = 1) -> Path:
    """A scene of some frames that names files of so many bytes, no two alike."""
    folder.mkdir(parents=True)
    names = []
    for number, (name, size) in enumerate(files.items()):
        with (folder / name).open("wb") as stream:
            left = size
            while left > 0:
                stream.write(os.urandom(min(left, 8 * MIB)))
                left -= 8 * MIB
        names.append(f"    asset f{number} = @./{name}@\n")
    scene = folder / "scene.usda"
    scene.write_text(SHOT.format(last=last) + 'def Sphere "S"\n{\n' + "".join(names) + "}\n")
    return scene


def tool(folder: Path, *words: object) -> dict:  # type: ignore[type-arg]
    """Run the program, and return what it said."""
    line = [sys.executable, "-m", "tidy_crate", *map(str, words), "--json"]
    environment = os.environ | {"TIDY_CRATE_HOME": str(folder / "home")}
    done = subprocess.run(line, env=environment, stdin=subprocess.DEVNULL, capture_output=True, check=False)
    if done.returncode:
        raise SystemExit(f"{' '.join(map(str, words))} ended with {done.returncode}: {done.stdout.decode()[-800:]}")
    return json.loads(done.stdout)  # type: ignore[no-any-return]


def empty_farm(folder: Path) -> None:
    """Start a farm that has nothing."""
    stop_farm(folder)
    shutil.rmtree(folder / "farm", ignore_errors=True)
    control.start(folder / "farm", FarmSettings(nodes=100, synthetic_seconds=1, balance="1000000"))


def stop_farm(folder: Path) -> None:
    """Stop the farm of a row, if there is one."""
    if (folder / "farm").exists():
        control.stop(folder / "farm")


def access(folder: Path) -> tuple[str, str]:
    """Return the farm's address and the token for it."""
    farm = folder / "farm"
    return str(read_json(farm / control.RUNNING, "state")["url"]), (farm / "token").read_text()


def _write_config(folder: Path, token: str, transfers: list[list[str]]) -> None:
    head = ["silent", 'noproxy = "*"', f'header = "Authorization: Bearer {token}"', 'header = "Expect:"']
    blocks = ["\n".join([*head, *one]) for one in transfers]
    (folder / "curl.txt").write_text("\nnext\n".join(blocks))


def curl_sends(folder: Path) -> None:
    """Let `curl` put every file of the crate to the verifying endpoint of a farm that has nothing."""
    empty_farm(folder)
    url, token = access(folder)
    crate = folder / "x.crate"
    files = {file.blake3: file for file in read_packing_list(crate).files}
    blobs = [{"blake3": digest, "bytes": file.bytes} for digest, file in files.items()]
    headers = {"Authorization": f"Bearer {token}"}
    httpx.post(f"{url}/v3/blobs/missing", json={"blobs": blobs}, headers=headers, timeout=60).raise_for_status()
    _write_config(folder, token, [
        [f'url = "{url}/v3/blobs/{digest}"', f'upload-file = "{crate / file.path}"', 'output = "/dev/null"']
        for digest, file in files.items()
    ])  # fmt: skip


def finished_job(folder: Path, frames: int, large: Path | None = None) -> None:
    """Let a farm finish a job of so many frames. large: an OpenEXR file that stands for each of its products."""
    tool(folder, "collect", write_scene(folder / "show", {"a.bin": 10}, frames), "-o", folder / "x.crate")
    empty_farm(folder)
    card = folder / "farm" / control.CARD_NAME
    tool(folder, "send", folder / "x.crate", "--farm", card, "--batch", "10", "--yes")
    tool(folder, "track", "--follow")
    if large is None:
        return
    control.stop(folder / "farm")
    with sqlite3.connect(folder / "farm" / "farm.sqlite") as rows:
        mark = (str(large), hash_file(large), large.stat().st_size)
        rows.execute("UPDATE product SET path = ?, blake3 = ?, bytes = ?", mark)
    control.start(folder / "farm", load_settings(folder / "farm"))


def finished_large_job(folder: Path, frames: int) -> None:
    """Let a farm have frames of 1080p with 21 channels."""
    write_layered_frames(folder / "frame", 1)
    finished_job(folder, frames, next((folder / "frame").iterdir()))


FARM = """name = "harbour"
url = "https://harbour.invalid"
currency = "EUR"
rates_from = 2026-11-01
[[machine]]
name = "standard"
nodes = 1000
score = 100
memory_gb = 64
price_per_hour = "0.50"
"""


def long_shots(folder: Path) -> None:
    """Crates of 10,000 and of 100,000 frames, and the card of a farm of 1,000 machines."""
    for frames in (10_000, 100_000):
        scene = write_scene(folder / f"show-{frames}", {"a.bin": 10}, frames)
        tool(folder, "collect", scene, "-o", folder / f"shot-{frames}.crate")
    (folder / "harbour.farm.toml").write_text(FARM)


def nothing_at_home(folder: Path) -> None:
    """Let no frame be at home."""
    shutil.rmtree(folder / "frames", ignore_errors=True)


def curl_fetches(folder: Path) -> None:
    """Let `curl` fetch every product of the job."""
    shutil.rmtree(folder / "curl", ignore_errors=True)
    (folder / "curl").mkdir()
    url, token = access(folder)
    keys = [row[0] for row in sqlite3.connect(folder / "farm" / "farm.sqlite").execute("SELECT key FROM product")]
    _write_config(folder, token, [
        [f'url = "{url}/v3/jobs/000001/products/{key}"', f'output = "{folder / "curl" / str(number)}"']
        for number, key in enumerate(keys)
    ])  # fmt: skip
