"""A job of many tasks on synthetic nodes: submitted, tracked and brought home, with time and memory of each step.

    python benchmarks/large_job.py [TASKS]

Every step is a command in a process of its own, as a user runs it. Tracking is measured twice: while the job has
changed, and again when nothing has. `benchmarks/run retrieve-small` measures retrieving beside `curl`.
"""

from __future__ import annotations

import json
import os
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from scenes import SHOT

from tidy_crate.core.files import read_json
from tidy_crate.practice.farm import control
from tidy_crate.practice.farm.settings import FarmSettings


class Tool:
    """Runs the program, and says what each command took."""

    def __init__(self, home: Path) -> None:
        self._environment = os.environ | {"TIDY_CRATE_HOME": str(home)}

    def __call__(self, label: str, *words: object) -> dict:  # type: ignore[type-arg]
        before = resource.getrusage(resource.RUSAGE_CHILDREN)
        began = time.perf_counter()
        line = [sys.executable, "-m", "tidy_crate", *map(str, words), "--json"]
        with tempfile.TemporaryFile() as out:
            process = subprocess.Popen(line, env=self._environment, stdout=out, stdin=subprocess.DEVNULL)
            _, status, usage = os.wait4(process.pid, 0)
            seconds = time.perf_counter() - began
            out.seek(0)
            document = out.read()
        process.returncode = os.waitstatus_to_exitcode(status)
        after = resource.getrusage(resource.RUSAGE_CHILDREN)
        cpu = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
        print(
            f"{label:<34} {seconds:8.2f} s   {cpu:7.2f} s cpu   {usage.ru_maxrss / 1024:7.0f} MiB   "
            f"{len(document) / 1e6:7.2f} MB of JSON   exit {process.returncode}",
            flush=True,
        )
        # a large document in this process would count as memory of the next one
        return json.loads(document) if len(document) < 1 << 20 else {}


def main() -> None:
    """Run all steps."""
    tasks = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
    with tempfile.TemporaryDirectory(prefix="tidy-crate-bench-") as name:
        folder = Path(name)
        tool, farm = Tool(folder / "home"), folder / "farm"
        scene = folder / "show" / "long.usda"
        scene.parent.mkdir()
        scene.write_text(SHOT.format(last=tasks))
        nodes = 1000
        settings = FarmSettings(nodes=nodes, synthetic_seconds=30, balance="1000000", startup_seconds=60)
        control.start(farm, settings)
        try:
            crate = folder / "long.crate"
            tool("collect", "collect", scene, "-o", crate)
            card = farm / "practice.farm.toml"
            job = tool("send", "send", crate, "--farm", card, "--batch", 10, "--yes")["job"]
            tool("track --follow, to the end", "track", job, "--follow")
            tool("track, nothing changed", "track", job)
            tool("retrieve", "retrieve", job, "--into", folder / "frames")
            line = tool("jobs", "jobs")["jobs"][0]
            print(f"{'':34} {line['at_home']} of {line['products']} at home, {line['cost']} {line['currency']}")
            tool("retrieve again, nothing changed", "retrieve", job, "--into", folder / "frames")
        finally:
            pid = read_json(farm / control.RUNNING, "state")["pid"]
            peak = [line for line in Path(f"/proc/{pid}/status").read_text().splitlines() if line.startswith("VmHWM")]
            print(f"farm's own {' '.join(peak[0].split())}" if peak else "")
            control.stop(farm)


if __name__ == "__main__":
    main()
