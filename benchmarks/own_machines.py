"""Engines of one's own machines: overhead per frame, and faults.

    python benchmarks/own_machines.py overhead ENGINE [--frames 5000] [--seconds 1] [--nodes 10] [--batch 50]
    python benchmarks/own_machines.py faults ENGINE [--faults 100] [--seed N]

ENGINE: here, dask, slurm (a real one, started here as root). The job goes by the program: send, track, retrieve. Frames
are rendered by a program that sleeps and writes a file, holds a lock for each frame, and notes who has rendered it. At
the end every frame is home, was brought home once, and was never rendered by two processes at a time.
"""

from __future__ import annotations

import argparse
import contextlib
import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from datetime import datetime
from pathlib import Path

import psutil

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from ports import free_port, wait_for
from slurm_here import SlurmHere, slurm

RENDERER = """
import os, sys, time
from pathlib import Path
told, seconds, frames, into = Path(sys.argv[1]), float(sys.argv[2]), sys.argv[3], Path(sys.argv[4])
def alive(pid):
    try:
        return pid > 0 and Path(f"/proc/{pid}/stat").read_text().split()[2] != "Z"
    except OSError:
        return False
for part in frames.split(","):
    first, _, last = part.partition("-")
    for frame in range(int(first), int(last or first) + 1):
        lock = told / "locks" / str(frame)
        with open(lock, "a+") as held:
            held.seek(0)
            before = held.read().split()
            if before and before[-1] != "0" and alive(int(before[-1])):
                (told / "twice").open("a").write(f"{frame} {os.getpid()} {before[-1]}\\n")
            held.write(f"{os.getpid()}\\n")
        while (told / f"hang-{os.getpid()}").exists():
            time.sleep(0.1)
        time.sleep(seconds)
        path = into / f"shot.{frame:04d}.exr"
        path.with_suffix(".tmp").write_bytes(f"{frame}".encode() * 500)
        path.with_suffix(".tmp").rename(path)
        (told / "rendered").open("a").write(f"{frame}\\n")
        with open(lock, "a") as held:
            held.write("0\\n")
"""
SCENE = """#usda 1.0
( startTimeCode = 1
endTimeCode = {last}
timeCodesPerSecond = 24
upAxis = "Y"
metersPerUnit = 1
renderSettingsPrimPath = "/Render/Settings" )
def Camera "Cam" {{
}}
def Sphere "S" {{
}}
def Scope "Render" {{
def RenderSettings "Settings" {{
rel camera = </Cam>
uniform int2 resolution = (64, 36)
rel products = [</Render/Beauty>]
}}
def RenderProduct "Beauty" {{
rel camera = </Cam>
token productName = "renders/shot.####.exr"
rel orderedVars = [</Render/Color>]
}}
def RenderVar "Color" {{
string sourceName = "Ci"
}}
}}
"""
CARD = """name = "lab"
url = "{url}"
currency = "EUR"
rates_from = 2026-11-01
practice = true
[operator]
kind = "own"
[cluster]
shared = "{shared}"
python = "{python}"
[limits]
minutes_per_frame = {minutes}
[[machine]]
name = "m"
nodes = {nodes}
score = 100
memory_gb = 4
price_per_hour = 1
[[program]]
name = "sleeper"
role = "renderer"
versions = ["1.*"]
command = ["{python}", "{folder}/renderer.py", "{folder}", "{seconds}", "{{frames}}", "{{output_folder}}"]
"""


class Lab:
    """Nodes, a share, a crate and a job."""

    def __init__(self, folder: Path, engine: str, nodes: int) -> None:
        self.folder, self.engine, self.nodes = folder, engine, nodes
        self.shared = folder / "share"
        self.environment = os.environ | {"TIDY_CRATE_HOME": str(folder / "home"), "NO_COLOR": "1"}
        self.slurm: SlurmHere | None = None
        self.port = free_port()
        self.running: list[subprocess.Popen[bytes]] = []
        for name in ("share", "locks"):
            (folder / name).mkdir()

    @property
    def url(self) -> str:
        return {"here": "here:", "slurm": "slurm:", "dask": f"dask://127.0.0.1:{self.port}"}[self.engine]

    def tool(self, *words: object, fails: bool = False) -> dict:  # type: ignore[type-arg]
        """Run the program. Return what it said."""
        line = [sys.executable, "-m", "tidy_crate", *map(str, words), "--json"]
        done = subprocess.run(line, env=self.environment, stdin=subprocess.DEVNULL, capture_output=True, check=False)
        if done.returncode not in (0, 1) and not fails:
            raise SystemExit(f"{' '.join(map(str, words))} ended with {done.returncode}: {done.stdout.decode()[-900:]}")
        return json.loads(done.stdout)  # type: ignore[no-any-return]

    def start_dask(self, kind: str, *words: str) -> subprocess.Popen[bytes]:
        """Start a scheduler or a worker."""
        with (self.folder / "dask.log").open("ab") as log:
            process = subprocess.Popen(
                [sys.executable, "-m", f"distributed.cli.dask_{kind}", *words], stdout=log, stderr=log,
                cwd=self.folder, start_new_session=True,
            )  # fmt: skip
        self.running.append(process)
        return process

    def scheduler(self) -> subprocess.Popen[bytes]:
        """Start a Dask scheduler."""
        words = ("--host", "127.0.0.1", "--port", str(self.port), "--no-dashboard", "--no-show")
        process = self.start_dask("scheduler", *words)
        wait_for(self.port, process)
        return process

    def worker(self) -> subprocess.Popen[bytes]:
        """Start a Dask worker."""
        words = ("--no-nanny", "--nthreads", "1", "--no-dashboard", "--death-timeout", "60",
                 "--local-directory", str(self.folder / "scratch"))  # fmt: skip
        return self.start_dask("worker", f"tcp://127.0.0.1:{self.port}", *words)

    def ready(self, frames: int, seconds: float, minutes: float) -> None:
        """Write scene and card, and pack the crate."""
        (self.folder / "renderer.py").write_text(RENDERER)
        scene = self.folder / "shot.usda"
        scene.write_text(SCENE.format(last=frames))
        card = self.folder / "lab.farm.toml"
        card.write_text(
            CARD.format(url=self.url, shared=self.shared, python=sys.executable, nodes=self.nodes, seconds=seconds,
                        folder=self.folder, minutes=minutes)
        )  # fmt: skip
        self.tool("collect", scene, "-o", self.folder / "shot.crate")
        self.tool("farm", "add", card)

    def send(self, batch: int, retries: int) -> str:
        """Send the job. Return its name."""
        words = ("--nodes", self.nodes, "--batch", batch, "--retries", retries, "--yes")
        return str(self.tool("send", self.folder / "shot.crate", "--farm", "lab", *words)["job"])

    def home(self) -> Counter[int]:
        """Return how often each frame was brought home."""
        found: Counter[int] = Counter()
        for path in self.shared.glob("jobs/*/records/*.jsonl"):
            for line in path.read_bytes().splitlines():
                one = json.loads(line)
                found[one["task"]["frame"]] += one["state"] == "done"
        return +found

    def between(self) -> float:
        """Return the seconds from frame to frame within a batch, on average."""
        seconds, count = 0.0, 0
        for path in self.shared.glob("jobs/*/records/*.jsonl"):
            lines = (json.loads(line) for line in path.read_bytes().splitlines())
            ends = sorted(datetime.fromisoformat(one["ended"]) for one in lines if one["state"] == "done")
            if len(ends) > 1:
                seconds += (ends[-1] - ends[0]).total_seconds()
                count += len(ends) - 1
        return seconds / max(1, count)

    def processes(self, part: str) -> list[psutil.Process]:
        """Return the processes whose command line names this lab and a part."""
        found = []
        for one in psutil.process_iter():
            with contextlib.suppress(psutil.Error):
                line = " ".join(one.cmdline())
                if part in line and str(self.folder) in line and "supervise.py" not in line:
                    found.append(one)
        return found


@contextmanager
def lab(engine: str, nodes: int) -> Iterator[Lab]:
    """Start an engine with so many nodes."""
    with ExitStack() as stack:
        folder = Path(
            stack.enter_context(tempfile.TemporaryDirectory(prefix="tidy-crate-lab-", ignore_cleanup_errors=True))
        )
        found = Lab(folder, engine, nodes)
        if engine == "slurm":
            (folder / "slurm").mkdir()
            folder.chmod(0o755)
            found.slurm = stack.enter_context(slurm(folder / "slurm", nodes))
            found.environment["SLURM_CONF"] = found.slurm.environment["SLURM_CONF"]
        elif engine == "dask":
            found.scheduler()
            for _ in range(nodes):
                found.worker()
            time.sleep(5)
        try:
            yield found
        finally:
            for one in found.processes(""):
                with contextlib.suppress(psutil.Error):
                    if one.pid != os.getpid() and "munged" not in one.name():
                        one.kill()
            for process in found.running:
                with contextlib.suppress(ProcessLookupError):
                    os.killpg(process.pid, signal.SIGKILL)
                process.wait()


def overhead(engine: str, frames: int, seconds: float, nodes: int, batch: int) -> None:
    """Measure what a frame costs beside its rendering."""
    with lab(engine, nodes) as here:
        here.ready(frames, seconds, 60)
        began = time.monotonic()
        here.send(batch, 2)
        sent = time.monotonic() - began
        first = time.monotonic()
        while len(here.home()) < frames:
            time.sleep(min(5.0, seconds))
        took = time.monotonic() - first
        count = here.home()
        assert set(count.values()) == {1} and len(count) == frames, count
        each = took * nodes / frames - seconds
        print(
            f"{engine}: {frames} frames of {seconds:g} s on {nodes} nodes in batches of {batch}: sent in {sent:.1f} s, "
            f"rendered in {took:.1f} s, {1000 * each:.0f} ms per frame beside its rendering, "
            f"{1000 * (here.between() - seconds):.1f} ms within a batch"
        )


class Faults:
    """Faults of an engine, each as it comes, and what mends it."""

    def __init__(self, here: Lab, chance: random.Random) -> None:
        self.here, self.chance = here, chance
        self.kinds: dict[str, Callable[[], None]] = {
            "a node's process is killed": self.worker,
            "a renderer is killed": self.renderer,
            "a renderer hangs": self.hang,
            "the share is gone": self.share,
            "the engine is killed and started again": self.engine,
        }
        if here.engine != "here":
            self.kinds["a node is gone and comes back"] = self.node

    def _one(self, part: str) -> psutil.Process | None:
        found = self.here.processes(part)
        return self.chance.choice(found) if found else None

    def worker(self) -> None:
        """Kill what runs a batch on a node."""
        one = self._one("on_node.py")
        if one is not None:
            one.kill()

    def renderer(self) -> None:
        """Kill a renderer."""
        one = self._one("renderer.py")
        if one is not None:
            one.kill()

    def hang(self) -> None:
        """Let a renderer hang, until its time is over."""
        one = self._one("/renderer.py")
        if one is not None:
            (self.here.folder / f"hang-{one.pid}").touch()

    def share(self) -> None:
        """Take the share away for a while, as when its server restarts."""
        away = self.here.shared.with_name("share.away")
        self.here.shared.rename(away)
        time.sleep(self.chance.uniform(1, 5))
        # what was made below the mount point meanwhile would be hidden by the share
        assert not self.here.shared.exists(), list(self.here.shared.rglob("*"))
        away.rename(self.here.shared)

    def engine(self) -> None:
        """Kill scheduler or controller, and start it again."""
        here = self.here
        if here.slurm is not None:
            here.slurm.kill("slurmctld")
            time.sleep(self.chance.uniform(0, 3))
            here.slurm.start("slurmctld")
        elif here.engine == "dask":
            os.killpg(here.running[0].pid, signal.SIGKILL)
            here.running[0].wait()
            time.sleep(self.chance.uniform(0, 3))
            here.scheduler()
            here.running.insert(0, here.running.pop())
        else:
            one = self._one("on_here.py")
            if one is not None:
                one.kill()

    def node(self) -> None:
        """Kill a node daemon with what it runs, and start it again."""
        here = self.here
        if here.slurm is not None:
            name = self.chance.choice(here.slurm.names)
            here.slurm.kill(name)
            for one in here.processes("on_node.py"):
                with contextlib.suppress(psutil.Error):
                    if one.environ().get("SLURMD_NODENAME") == name:
                        one.kill()
            time.sleep(self.chance.uniform(0, 3))
            here.slurm.start("slurmd", "-N", name)
        else:
            number = self.chance.randrange(1, len(here.running))
            with contextlib.suppress(ProcessLookupError):
                os.killpg(here.running[number].pid, signal.SIGKILL)


def revive(here: Lab) -> None:
    """Start workers again that have ended, as the service manager of a machine does: without scheduler, they end."""
    for number, one in enumerate(list(here.running)) if here.engine == "dask" else ():
        if number and one.poll() is not None:
            here.running[number] = here.worker()
            here.running.pop()


def faults(engine: str, count: int, seed: int, nodes: int) -> None:
    """Let a job run under faults, until every frame is home."""
    chance = random.Random(seed)
    frames = 8 * count
    done: Counter[str] = Counter()
    with lab(engine, nodes) as here:
        here.ready(frames, 0.3, 0.2)
        job = here.send(10, 20)
        watching = None
        made = Faults(here, chance)
        began = time.monotonic()
        while True:
            revive(here)
            if watching is None or watching.poll() is not None:
                line = [sys.executable, "-m", "tidy_crate", "track", job, "--follow", "--json"]
                watching = subprocess.Popen(
                    line, env=here.environment, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE,
                    stderr=subprocess.DEVNULL,
                )  # fmt: skip
            try:
                out, _ = watching.communicate(timeout=chance.uniform(1, 5))
            except subprocess.TimeoutExpired:
                out = b""
            if watching.poll() == 0 and json.loads(out)["state"] == "done":
                break
            if watching.poll() not in (None, 0, 3, 4):
                out = out or watching.communicate()[0]
                failed = [one for one in json.loads(out)["frames"] if one["state"] == "failed"]
                raise SystemExit(
                    f"{engine}, seed {seed}: {len(failed)} frames failed, first: {failed[:1]} after {done}"
                )
            assert time.monotonic() - began < 7200, here.home()
            if sum(done.values()) < count:
                kind = chance.choice([*made.kinds, "the wrangler's command is killed"])
                if kind in made.kinds:
                    made.kinds[kind]()
                else:
                    watching.kill()
                    watching.communicate()
                done[kind] += 1
        took = time.monotonic() - began
        home = here.home()
        twice = (here.folder / "twice").read_text().splitlines() if (here.folder / "twice").exists() else []
        rendered = Counter((here.folder / "rendered").read_text().split())
        came = here.tool("retrieve", job, "--into", here.folder / "frames")
        assert sum(done.values()) >= count, "the job was done before all faults had come"
        assert len(home) == frames and set(home.values()) == {1}, [one for one in home.items() if one[1] != 1]
        assert not twice, twice
        assert came["at_home"] == frames and not came["missing"], {**came, "retrieved": 0}
        again = sum(rendered.values()) - frames
        listed = ", ".join(f"{number} x {kind}" for kind, number in done.most_common())
        print(
            f"{engine}, seed {seed}: {count} faults ({listed}) in {took:.0f} s; {frames} frames home, each once, none "
            f"rendered by two at a time; {again} were rendered to their end again"
        )


def main() -> None:
    """Measure what the command line says."""
    reads = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    reads.add_argument("what", choices=("overhead", "faults"))
    reads.add_argument("engine", choices=("here", "dask", "slurm"))
    reads.add_argument("--frames", type=int, default=5000)
    reads.add_argument("--seconds", type=float, default=1.0)
    reads.add_argument("--nodes", type=int)
    reads.add_argument("--batch", type=int, default=50)
    reads.add_argument("--faults", type=int, default=100)
    reads.add_argument("--seed", type=int, default=1)
    said = reads.parse_args()
    if said.what == "overhead":
        overhead(said.engine, said.frames, said.seconds, said.nodes or 10, said.batch)
    else:
        faults(said.engine, said.faults, said.seed, said.nodes or 3)


if __name__ == "__main__":
    main()
