"""Sending a crate to the practice farm on this machine, beside `curl` of the same bytes to the same farm.

    python benchmarks/send.py [large|small|changed ...] [--rounds N]

`large`: 8 files of 128 MiB. `small`: 20,000 files of 10 kB. Each side has a farm that has nothing; `curl` puts each
file to the farm's own verifying endpoint over one connection. `changed`: the share of a 1 GiB file that is sent again
after one contiguous overwrite of 1 %, and after an insertion of 1 %.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx
from large_job import SCENE

from tidy_crate.core.crate.packing import read_packing_list
from tidy_crate.core.files import read_json
from tidy_crate.practice.farm import control
from tidy_crate.practice.farm.settings import FarmSettings

MIB = 1 << 20


def write_scene(folder: Path, files: dict[str, int]) -> Path:
    """A scene of one frame that names files of so many bytes, no two alike."""
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
    scene.write_text(SCENE.format(last=1) + 'def Sphere "S"\n{\n' + "".join(names) + "}\n")
    return scene


def tool(home: Path, *words: object) -> tuple[float, dict]:  # type: ignore[type-arg]
    """Run the program, and return seconds and what it said."""
    environment = os.environ | {"TIDY_CRATE_HOME": str(home)}
    began = time.perf_counter()
    line = [sys.executable, "-m", "tidy_crate", *map(str, words), "--json"]
    done = subprocess.run(line, env=environment, stdin=subprocess.DEVNULL, capture_output=True, check=False)
    if done.returncode:
        raise SystemExit(f"{' '.join(map(str, words))} ended with {done.returncode}: {done.stdout.decode()[-800:]}")
    return time.perf_counter() - began, json.loads(done.stdout)


@contextmanager
def empty_farm(folder: Path) -> Iterator[Path]:
    """A farm that has nothing."""
    shutil.rmtree(folder, ignore_errors=True)
    control.start(folder, FarmSettings(nodes=1, synthetic_seconds=1))
    try:
        yield folder
    finally:
        control.stop(folder)
        shutil.rmtree(folder)


def curl(crate: Path, farm: Path, scratch: Path) -> float:
    """Put every file of a crate to the farm's verifying endpoint. Return the seconds."""
    url, token = str(read_json(farm / control.RUNNING, "state")["url"]), (farm / "token").read_text()
    files = {file.blake3: file for file in read_packing_list(crate).files}
    headers = {"Authorization": f"Bearer {token}"}
    blobs = [{"blake3": digest, "bytes": file.bytes} for digest, file in files.items()]
    httpx.post(f"{url}/v3/blobs/missing", json={"blobs": blobs}, headers=headers, timeout=60).raise_for_status()
    lines = []
    for digest, file in files.items():
        lines += [f'url = "{url}/v3/blobs/{digest}"', f'upload-file = "{crate / file.path}"', "next"]
        lines += ["silent", 'noproxy = "*"', f'header = "Authorization: Bearer {token}"', 'header = "Expect:"']
    config = scratch / "curl.txt"
    head = ["silent", 'noproxy = "*"', f'header = "Authorization: Bearer {token}"', 'header = "Expect:"']
    # the last `next` begins a transfer that has no address
    config.write_text("\n".join([*head, *lines[: -len(head) - 1]]))
    began = time.perf_counter()
    subprocess.run(["curl", "-K", str(config)], check=True, stdout=subprocess.DEVNULL)
    seconds = time.perf_counter() - began
    missing = httpx.post(f"{url}/v3/blobs/missing", json={"blobs": blobs}, headers=headers, timeout=60).json()
    if missing["blobs"]:
        raise SystemExit(f"curl left {len(missing['blobs'])} files out")
    return seconds


def whole(name: str, files: dict[str, int], rounds: int, start: float) -> None:
    """Send all of a crate, in turn with curl."""
    with tempfile.TemporaryDirectory(prefix="tidy-crate-bench-") as place:
        folder = Path(place)
        crate, home = folder / "x.crate", folder / "home"
        tool(home, "collect", write_scene(folder / "show", files), "-o", crate)
        ours, theirs = [], []
        for _ in range(rounds):
            with empty_farm(folder / "farm") as farm:
                theirs.append(curl(crate, farm, folder))
            with empty_farm(folder / "farm") as farm:
                ours.append(tool(home, "send", crate, "--farm", farm / control.CARD_NAME, "--again", "--yes")[0])
        ratio = statistics.median(own / other for own, other in zip(ours, theirs, strict=True))
        apart = statistics.median((own - start) / other for own, other in zip(ours, theirs, strict=True))
        times = f"{statistics.median(theirs):.2f} s | {statistics.median(ours):.2f} s"
        print(f"| send, {name} | {times} | {ratio:.2f}; apart from the start {apart:.2f} |", flush=True)


def fixed_start(rounds: int) -> float:
    """Seconds of a send that has next to nothing to send: start of the program, checks, the farm's own reading."""
    with tempfile.TemporaryDirectory(prefix="tidy-crate-bench-") as place:
        folder = Path(place)
        crate, home = folder / "x.crate", folder / "home"
        tool(home, "collect", write_scene(folder / "show", {"c.bin": 1000}), "-o", crate)
        found = []
        for _ in range(rounds):
            with empty_farm(folder / "farm") as farm:
                found.append(tool(home, "send", crate, "--farm", farm / control.CARD_NAME, "--again", "--yes")[0])
    return statistics.median(found)


def changed() -> None:
    """Send a large file again after a change, and compare the bytes."""
    size = 1 << 30
    with tempfile.TemporaryDirectory(prefix="tidy-crate-bench-") as place:
        folder = Path(place)
        crate, home = folder / "x.crate", folder / "home"
        scene = write_scene(folder / "show", {"cache.bin": size})
        with empty_farm(folder / "farm") as farm:
            card = farm / control.CARD_NAME
            tool(home, "collect", scene, "-o", crate)
            first = tool(home, "send", crate, "--farm", card, "--yes")[1]["submissions"][0]["uploaded_bytes"]
            cache, one = folder / "show" / "cache.bin", size // 100
            with cache.open("rb+") as stream:
                stream.seek(size // 3)
                stream.write(os.urandom(one))
            tool(home, "collect", scene, "-o", crate)
            again = tool(home, "send", crate, "--farm", card, "--yes")[1]["submissions"][0]["uploaded_bytes"]
            print(f"| send again, 1 % overwritten | {first} B | {again} B | {again / first:.4f} |")
            inserted = folder / "show" / "new.bin"
            with cache.open("rb") as source, inserted.open("wb") as target:
                target.write(source.read(size // 2))
                target.write(os.urandom(one))
                shutil.copyfileobj(source, target, 8 * MIB)
            inserted.replace(cache)
            tool(home, "collect", scene, "-o", crate)
            again = tool(home, "send", crate, "--farm", card, "--yes")[1]["submissions"][0]["uploaded_bytes"]
            print(f"| send again, 1 % inserted | {first} B | {again} B | {again / first:.4f} |")


def main() -> None:
    """Print the rows."""
    words = argparse.ArgumentParser(description=__doc__)
    words.add_argument("names", nargs="*", default=["large", "small", "changed"])
    words.add_argument("--rounds", type=int, default=3)
    asked = words.parse_args()
    print("| what | curl or first | command | ratio |\n|---|---|---|---|", flush=True)
    start = fixed_start(asked.rounds)
    print(f"| the start of a send, with a file of 1 kB | | {start:.2f} s | |", flush=True)
    if "large" in asked.names:
        whole("8 x 128 MiB", {f"c{number}.bin": 128 * MIB for number in range(8)}, asked.rounds, start)
    if "small" in asked.names:
        whole("20,000 x 10 kB", {f"c{number:05d}.bin": 10_000 for number in range(20_000)}, asked.rounds, start)
    if "changed" in asked.names:
        changed()


if __name__ == "__main__":
    main()
