"""Send, track and bring home under seeded kills and faults, over all three links.

    python benchmarks/soak.py [KILLS] [--seed N]

Each round sends a crate, with the program killed at random moments and run again, the practice farm killed and started
again, requests that break off or fail, a place that a person fills slowly, and workers that are killed. A round ends
when every frame is home. Then it is counted: one job for one order, no frame missing, one bill, and no more bytes at
the farm twice than what was on its way when something was killed.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import httpx

from farms import write_scene
from tidy_crate.core.files import read_json
from tidy_crate.practice.farm import control
from tidy_crate.practice.farm.settings import FarmSettings

MIB = 1 << 20
FRAMES = 6
# bytes on their way at a time: connections by what a pack holds
IN_FLIGHT = 4 * 8 * MIB


class Tool:
    """Runs the program, and kills it now and then."""

    def __init__(self, home: Path, chance: random.Random) -> None:
        self.environment = os.environ | {"TIDY_CRATE_HOME": str(home)}
        self.chance = chance
        self.kills = 0

    def __call__(self, *words: object, kill: bool = False) -> dict | None:  # type: ignore[type-arg]
        """Run it to its end; None where it was killed, or met a farm that was away."""
        line = [sys.executable, "-m", "tidy_crate", *map(str, words), "--json"]
        process = subprocess.Popen(
            line, env=self.environment, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
            start_new_session=True,
        )  # fmt: skip
        try:
            out, err = process.communicate(timeout=self.chance.uniform(0.3, 3.0) if kill else 120)
        except subprocess.TimeoutExpired:
            os.killpg(process.pid, signal.SIGKILL)
            process.communicate()
            self.kills += 1
            return None
        if process.returncode in (0, 1) and out:
            return json.loads(out)  # type: ignore[no-any-return]
        if process.returncode == 3 or b"already" in out:
            return None
        raise SystemExit(f"{' '.join(map(str, words))} ended with {process.returncode}: {out[-600:]!r} {err[-600:]!r}")

    def until(self, *words: object, kills: int, then: str = "") -> dict:  # type: ignore[type-arg]
        """Run it until it has come to its end, killed so often before."""
        for attempt in range(200):
            found = self(*words, kill=attempt < kills)
            if found is not None and (not then or found.get(then)):
                return found
        raise SystemExit(f"{' '.join(map(str, words))} never came to its end")


def jobs(tool: Tool) -> list[dict]:  # type: ignore[type-arg]
    """All jobs."""
    return (tool("jobs") or {"jobs": []})["jobs"]  # type: ignore[no-any-return]


def sent(tool: Tool, crate: Path, card: Path, kills: int, before: int) -> str:
    """Send until the farm has it. A try that was killed after the farm confirmed is refused as a repetition."""
    for attempt in range(200):
        tool("send", crate, "--farm", card, "--batch", 2, "--yes", kill=attempt < kills)
        fresh = jobs(tool)
        if len(fresh) > before and fresh[0]["state"] != "sending":
            return str(fresh[0]["job"])
    raise SystemExit("the crate was never sent")


def home(tool: Tool, job: str, into: Path, kills: int) -> None:
    """Bring everything home."""
    for attempt in range(400):
        found = tool("retrieve", job, "--into", into, kill=attempt < kills)
        if found is not None and found["at_home"] == FRAMES and not found["missing"]:
            return
        time.sleep(0.1)
    raise SystemExit(f"{job} never came home: {found}")


def service(tool: Tool, folder: Path, chance: random.Random, number: int) -> None:
    """A round with the practice farm, which is killed too."""
    farm = folder / "farm"
    faults = {"drop": chance.uniform(0, 0.1), "error": chance.uniform(0, 0.1), "busy": chance.uniform(0, 0.03)}
    settings = FarmSettings(nodes=3, synthetic_seconds=1, balance="100000", line_faults=faults)
    control.start(farm, settings)
    card = farm / control.CARD_NAME
    crate = folder / "x.crate"
    # another contents each time, so that there is something to send
    show = folder / "show"
    with (show / "cache.bin").open("rb+") as stream:
        stream.write(number.to_bytes(8, "big") + chance.randbytes(24 * MIB))
    tool.until("collect", show / "scene.usda", "-o", crate, kills=0)
    before, kills = len(jobs(tool)), chance.randint(1, 4)
    repeated, killed = 0, 0
    for attempt in range(200):
        tool("send", crate, "--farm", card, "--batch", 2, "--yes", kill=attempt < kills)
        if chance.random() < 0.3:
            repeated += _repeated(farm)
            os.kill(int(read_json(farm / control.RUNNING, "state")["pid"]), signal.SIGKILL)
            killed += 1
            tool.kills += 1
            time.sleep(0.2)
            control.start(farm, settings)
        fresh = jobs(tool)
        if len(fresh) > before and fresh[0]["state"] != "sending":
            break
    else:
        raise SystemExit("the crate was never sent")
    job = fresh[0]["job"]
    home(tool, job, folder / f"frames{number}", chance.randint(0, 2))
    control.switch_faults(farm, dict.fromkeys(faults, 0.0))
    view = tool.until("track", job, kills=0)
    one = {(frame["frame"], frame["attempt"]) for frame in view["frames"]}
    if view["state"] != "done" or len(one) != FRAMES:
        raise SystemExit(f"{job}: {view['state']}, {sorted(one)}")
    if len(jobs(tool)) != before + 1:
        raise SystemExit(f"{job}: one order became several jobs")
    _one_bill(farm, view)
    repeated += _repeated(farm)
    if repeated > (kills + killed + 4) * IN_FLIGHT:
        raise SystemExit(f"{job}: {repeated} bytes were sent twice")
    control.stop(farm)


def _repeated(farm: Path) -> int:
    url = str(read_json(farm / control.RUNNING, "state")["url"])
    headers = {"Authorization": f"Bearer {(farm / 'token').read_text()}"}
    return int(httpx.get(f"{url}/repeated", headers=headers, trust_env=False, timeout=30).json()["bytes"])


def _one_bill(farm: Path, view: dict) -> None:  # type: ignore[type-arg]
    """The balance has gone down by the costs of all jobs, once each."""
    import sqlite3

    rows = sqlite3.connect(farm / "farm.sqlite").execute(
        "SELECT key, count(*) FROM job GROUP BY key HAVING count(*) > 1"
    )
    if twice := rows.fetchall():
        raise SystemExit(f"the farm has an order twice: {twice}")
    if float(view["cost"]) <= 0:
        raise SystemExit("nothing was billed")


def place(tool: Tool, folder: Path, chance: random.Random, number: int) -> None:
    """A round with a folder that a person fills."""
    there = folder / f"place{number}"
    there.mkdir()
    card = folder / f"place{number}.farm.toml"
    card.write_text(
        f'name = "attic{number}"\nurl = "{there.as_uri()}"\ncurrency = "EUR"\nrates_from = 2026-11-01\n'
        'practice = true\n[operator]\nkind = "own"\n[[machine]]\nname = "m"\nnodes = 2\nscore = 100\n'
        'memory_gb = 8\nprice_per_hour = "1"\n'
    )
    before = len(jobs(tool))
    job = sent(tool, folder / "x.crate", card, chance.randint(1, 4), before)
    orders = list(there.rglob("order.json"))
    if len(orders) != 1:
        raise SystemExit(f"{job}: {len(orders)} orders at the place")
    for frame in range(1, FRAMES + 1):
        target = orders[0].parent / f"frames/Beauty/beauty.{frame:06d}.exr"
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(folder / "one.exr", target)
        if chance.random() < 0.3:
            tool("retrieve", job, "--into", folder / f"frames{number}", kill=True)
    home(tool, job, folder / f"frames{number}", 1)


def cluster(tool: Tool, folder: Path, chance: random.Random, number: int) -> None:
    """A round with a Dask scheduler and two workers, one of which is killed."""
    with socket.socket() as listening:
        listening.bind(("127.0.0.1", 0))
        port = listening.getsockname()[1]

    def start(*words: str) -> subprocess.Popen[bytes]:
        line = [sys.executable, "-m", f"distributed.cli.{words[0]}", *words[1:]]
        quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
        return subprocess.Popen(line, cwd=folder, start_new_session=True, **quiet)  # type: ignore[call-overload,no-any-return]

    shared = folder / f"shared{number}"
    shared.mkdir()
    draw = f"import shutil, sys, pathlib; o = pathlib.Path(sys.argv[2], 'Beauty'); o.mkdir(parents=True, exist_ok=True)\nfrom tidy_crate.core.asset.frames import parse_frames\nfor f in parse_frames(sys.argv[1]): shutil.copyfile({str(folder / 'one.exr')!r}, o / f'beauty.{{f:06d}}.exr')"  # noqa: E501
    (folder / "draw.py").write_text(draw)
    card = folder / f"studio{number}.farm.toml"
    card.write_text(
        f'name = "studio{number}"\nurl = "dask://127.0.0.1:{port}"\ncurrency = "EUR"\nrates_from = 2026-11-01\n'
        f'practice = true\n[cluster]\nshared = "{shared}"\n[operator]\nkind = "own"\n[[program]]\nname = "practice"\n'
        f'role = "renderer"\nversions = ["1.*"]\ncommand = ["{sys.executable}", "{folder / "draw.py"}", "{{frames}}", '
        '"{output_folder}"]\n[[machine]]\nname = "m"\nnodes = 2\nscore = 100\nmemory_gb = 8\nprice_per_hour = "1"\n'
    )
    processes = [start("dask_scheduler", "--host", "127.0.0.1", "--port", str(port), "--no-dashboard", "--no-show")]
    worker = ("dask_worker", f"tcp://127.0.0.1:{port}", "--no-nanny", "--nthreads", "1", "--no-dashboard")
    processes += [start(*worker), start(*worker)]
    try:
        before = len(jobs(tool))
        job = sent(tool, folder / "x.crate", card, chance.randint(1, 3), before)
        os.killpg(processes[1].pid, signal.SIGKILL)
        tool.kills += 1
        processes.append(start(*worker))
        home(tool, job, folder / f"frames{number}", chance.randint(0, 1))
    finally:
        for process in reversed(processes):
            try:
                os.killpg(process.pid, signal.SIGKILL)
            except ProcessLookupError:
                continue
            process.wait()


def main() -> None:
    """Run rounds until so many kills are done."""
    words = argparse.ArgumentParser(description=__doc__)
    words.add_argument("kills", nargs="?", type=int, default=1000)
    words.add_argument("--seed", type=int, default=1)
    asked = words.parse_args()
    chance = random.Random(asked.seed)
    with tempfile.TemporaryDirectory(prefix="tidy-crate-soak-") as name:
        folder = Path(name)
        scene = write_scene(folder / "show", {"cache.bin": 40 * MIB} | {f"s{n}.bin": 5000 for n in range(300)})
        text = scene.read_text().replace("endTimeCode = 1\n", f"endTimeCode = {FRAMES}\n")
        scene.write_text(text)
        _frame(folder / "one.exr")
        tool = Tool(folder / "home", chance)
        tool.until("collect", scene, "-o", folder / "x.crate", kills=0)
        rounds, began = 0, time.monotonic()
        while tool.kills < asked.kills:
            rounds += 1
            (service, place, service, cluster)[rounds % 4](tool, folder, chance, rounds)
            for left in folder.glob("frames*"):
                shutil.rmtree(left)
            minutes = (time.monotonic() - began) / 60
            print(f"round {rounds}: {tool.kills} kills, {minutes:.1f} min, all complete", flush=True)


def _frame(path: Path) -> None:
    """A small picture."""
    import numpy as np
    import OpenEXR

    shade = np.full((36, 64), 0.5, np.float16)
    OpenEXR.File({"type": OpenEXR.scanlineimage}, dict.fromkeys("RGB", shade)).write(str(path))


if __name__ == "__main__":
    main()
