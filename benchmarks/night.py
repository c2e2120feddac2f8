"""A night of shots, carried to its end by one command that is killed over and over, while farms die and come back.

    python benchmarks/night.py [--shots 200] [--frames 240] [--farms 3] [--kills 100] [--deaths 6] [--seed N]

Every farm spoils some frames, drops connections and answers with errors. The carrying command is killed with all its
processes at random moments and run again; farms are killed and started again. At the end every frame is home, judged
good and delivered, each shot has one job, no frame was rendered more often than its faults explain, and the bill is
what the farms say. Printed: the wall clock, the memory of the carrying command, and what was paid.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import psutil

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from shows import with_rules, write_shot
from tidy_crate.practice.farm import control
from tidy_crate.practice.farm.settings import FarmSettings

RULES = 'waive = { output-colour-space-unset = "graded as it is" }\nrerender = 3\nsuspect = "rerender"'
FAULTS = ("black:7:P", "truncated:11:P", "damaged:13:P", "black:29:P")
LINE = {"drop": 0.01, "error": 0.01, "busy": 0.01}


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    for name, usual in (("shots", 200), ("frames", 240), ("farms", 3), ("kills", 100), ("deaths", 6), ("seed", 1)):
        parser.add_argument(f"--{name}", type=int, default=usual)
    parser.add_argument("--folder", type=Path)
    asked = parser.parse_args()
    if asked.folder is not None:
        asked.folder.mkdir(parents=True)
        return carried(asked.folder, asked)
    with tempfile.TemporaryDirectory(prefix="night-", ignore_cleanup_errors=True) as folder:
        return carried(Path(folder), asked)


def carried(folder: Path, asked: argparse.Namespace) -> int:
    chance = random.Random(asked.seed)
    env = os.environ | {"TIDY_CRATE_HOME": str(folder / "home"), "NO_COLOR": "1"}
    write_list(folder, asked)
    subprocess.run([sys.executable, "-m", "tidy_crate", "trust", str(folder / "show"), "-q"], env=env, check=True,
                   stdout=subprocess.DEVNULL)  # fmt: skip
    began = time.monotonic()
    done: list[float] = []
    with farms(folder, asked, chance, done):
        killed, peak = killing(folder, env, asked, chance)
        took = time.monotonic() - began
        wrong = judged(folder, env, asked)
    print(f"{asked.shots} shots of {asked.frames} frames on {asked.farms} farms: {took:.0f} s, {killed} kills, "
          f"{len(done)} deaths of farms, {peak / (1 << 20):.0f} MiB at the most in the carrying command")  # fmt: skip
    for line in wrong:
        print(f"wrong: {line}")
    return 1 if wrong else 0


def write_list(folder: Path, asked: argparse.Namespace) -> None:
    names = [f"s{at:03}" for at in range(asked.shots)]
    for name in names:
        write_shot(folder / "show", name, asked.frames)
    with_rules(folder / "show", RULES)
    cards = ", ".join(f'"farm{at}/farm{at}.farm.toml"' for at in range(asked.farms))
    head = f'title = "night"\nbudget = "{asked.shots * 20} EUR"\nfarms = [{cards}]\ndeliver = "delivery/{{shot}}"\n'
    shots = "".join(f'[[shot]]\nscene = "show/{name}_v001.usda"\n' for name in names)
    (folder / "night.toml").write_text(head + shots)


def settings_of(at: int) -> FarmSettings:
    return FarmSettings.model_validate({"nodes": 2, "faults": FAULTS, "seed": at, "line_faults": LINE})


@contextmanager
def farms(folder: Path, asked: argparse.Namespace, chance: random.Random, done: list[float]) -> Iterator[None]:
    """Farms that die now and then, and come back some seconds later."""
    over = threading.Event()

    def start(at: int) -> None:
        home = folder / f"farm{at}"
        found = control.start(home, settings_of(at))
        text = found.card.read_text().replace('name = "practice"\ntitle', f'name = "farm{at}"\ntitle')
        (home / f"farm{at}.farm.toml").write_text(text)

    def die() -> None:
        for _ in range(asked.deaths):
            if over.wait(chance.uniform(20, 90)):
                return
            at = chance.randrange(asked.farms)
            for process in psutil.process_iter(["cmdline"]):
                words = process.info["cmdline"] or []
                if any("tidy_crate.practice.farm" in word for word in words) and str(folder / f"farm{at}") in words:
                    process.kill()
                    done.append(time.monotonic())
            if over.wait(chance.uniform(3, 20)):
                return
            start(at)

    for at in range(asked.farms):
        start(at)
    killer = threading.Thread(target=die)
    killer.start()
    try:
        yield
    finally:
        over.set()
        killer.join()
        for at in range(asked.farms):
            control.stop(folder / f"farm{at}")


def killing(folder: Path, env: dict[str, str], asked: argparse.Namespace, chance: random.Random) -> tuple[int, int]:
    """Run the carrying command until it ends by itself. Return how often it was killed, and its most memory."""
    line = [sys.executable, "-m", "tidy_crate", "carry", str(folder / "night.toml"), "--json"]
    killed = peak = 0
    while True:
        with (folder / "out.json").open("wb") as out, (folder / "err.txt").open("ab") as err:
            process = subprocess.Popen(line, env=env, stdout=out, stderr=err)
            until = time.monotonic() + (chance.uniform(2, 60) if killed < asked.kills else 1e9)
            while process.poll() is None and time.monotonic() < until:
                try:
                    peak = max(peak, psutil.Process(process.pid).memory_info().rss)
                except psutil.Error:
                    break
                time.sleep(0.2)
            if process.poll() is not None:
                return killed, peak
            process.send_signal(signal.SIGKILL)
            process.wait()
            killed += 1


def judged(folder: Path, env: dict[str, str], asked: argparse.Namespace) -> list[str]:
    """Return what is not as it should be."""
    wrong = []
    end = json.loads((folder / "out.json").read_bytes())
    if not end["done"]:
        states = Counter(one["state"] for one in end["shots"])
        first = next(one for one in end["shots"] if one["state"] != "done")
        wrong.append(f"not all is done: {dict(states)}; {first['shot']}: {first['said']}")
    for at in range(asked.shots):
        count = len(list((folder / "delivery" / f"s{at:03}").rglob("*.exr")))
        if count != asked.frames:
            wrong.append(f"s{at:03}: {count} of {asked.frames} frames are delivered")
    said = subprocess.run([sys.executable, "-m", "tidy_crate", "jobs", "--json"], env=env, check=True,
                          capture_output=True).stdout  # fmt: skip
    jobs = Counter(one["job"].rpartition("-")[0] for one in json.loads(said)["jobs"])
    wrong += [f"{shot} has {count} jobs" for shot, count in jobs.items() if count != 1]
    billed = sum(float(value) for value in end["billed"].values())
    print(f"billed {billed:.2f} of {asked.shots * 20}")
    return wrong


if __name__ == "__main__":
    sys.exit(main())
