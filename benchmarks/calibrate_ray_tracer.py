"""Measure whether the range of a probe holds on a renderer of others: `python benchmarks/calibrate_ray_tracer.py`.

The example animations of POV-Ray (Debian: `apt install povray povray-examples`), each through a scene sheet as a user
would bring it: exported, trusted, collected and probed with a tenth of its frames. Then every frame is rendered, and
the real total is held against the range. Eight of ten are promised.
"""

from __future__ import annotations

import argparse
import json
import os
import re
import subprocess
import sys
import tempfile
import time
from pathlib import Path

EXAMPLES = Path("/usr/share/doc/povray/examples")
HOST = Path(__file__).parents[1] / "examples" / "povray" / "povray_host.py"
OTHERS = ("incdemo/sundial.pov", "language/vturbulence.pov", "language/trace2.pov", "advanced/wallstucco.pov")
DONE = re.compile(r"frame (-?\d+) done in ([\d.]+) s")
FRAMES = 60


def scenes() -> list[Path]:
    """Return the animations: all that come as such, and some scenes that move with the clock."""
    return [*sorted(EXAMPLES.glob("animations/*/*.pov")), *(EXAMPLES / name for name in OTHERS)]


def run(folder: Path, *line: str) -> str:
    """Run a command, and return what it prints."""
    environment = os.environ | {"TIDY_CRATE_HOME": str(folder / "home")}
    done = subprocess.run(line, cwd=folder, env=environment, capture_output=True, text=True, check=False)
    if done.returncode not in (0, 1):
        raise RuntimeError(f"{' '.join(line)}: {(done.stderr or done.stdout)[-400:]}")
    return done.stdout


def trial(scene: Path, width: int) -> tuple[dict[str, float], float]:
    """Probe a tenth of an animation, then render all of it. Return what was expected, and the seconds it took."""
    with tempfile.TemporaryDirectory(prefix="tidy-crate-calibration-") as place:
        folder = Path(place) / "show"
        folder.mkdir()
        for path in scene.parent.iterdir():
            if path.is_file() and path.suffix in (".pov", ".inc", ".png", ".ini"):
                (folder / path.name).write_bytes(path.read_bytes())
        name = scene.stem
        (folder / f"{name}.ini").write_text(
            f"Width={width}\nHeight={width * 3 // 4}\nInitial_Frame=1\nFinal_Frame={FRAMES}\n"
            "Initial_Clock=0\nFinal_Clock=1\nAntialias=On\nAntialias_Threshold=0.2\n"
        )
        tool = [sys.executable, "-m", "tidy_crate"]
        run(folder, sys.executable, str(HOST), "export", f"{name}.pov", f"{name}.sheet.json")
        run(folder, *tool, "trust", ".")
        run(folder, *tool, "collect", f"{name}.sheet.json", "-o", "c.crate", "--json")
        run(folder, *tool, "probe", "c.crate", "--frames", str(FRAMES // 10), "--json")
        expected = json.loads((folder / "c.probe" / "timings.json").read_text())["expected"][0]
        sheet = json.loads((folder / f"{name}.sheet.json").read_text())
        values = {
            "python": sys.executable, "host_scene": str(folder / "c.crate" / f"{name}.pov"), "frames": f"1-{FRAMES}",
            "width": str(width), "height": str(width * 3 // 4), "output_folder": str(folder / "all"),
        }  # fmt: skip
        words = [
            re.sub(r"\{(\w+)\}", lambda hit: values[hit[1]], word) for word in sheet["commands"]["render"]["command"]
        ]
        done = {int(frame): float(took) for frame, took in DONE.findall(run(folder, *words))}
        assert len(done) == FRAMES, f"{len(done)} frames"
        return expected, sum(done.values())


def main() -> None:
    """Print a line for each animation, and how many totals were in their range."""
    words = argparse.ArgumentParser(description=__doc__)
    words.add_argument("--width", type=int, default=240)
    words.add_argument("--scenes", type=int, default=20)
    asked = words.parse_args()
    print(f"{'animation':>14} {'low':>8} {'likely':>8} {'high':>8} {'real':>8}  held", flush=True)
    held = tried = 0
    began = time.monotonic()
    for scene in scenes():
        if tried == asked.scenes:
            break
        try:
            expected, real = trial(scene, asked.width)
        except (RuntimeError, AssertionError, OSError, KeyError) as error:
            print(f"{scene.stem:>14} could not be rendered here: {str(error)[-160:]!r}", flush=True)
            continue
        inside = expected["low"] <= real <= expected["high"]
        held, tried = held + inside, tried + 1
        figures = " ".join(f"{expected[key]:8.2f}" for key in ("low", "likely", "high"))
        print(f"{scene.stem:>14} {figures} {real:8.2f}  {'yes' if inside else 'no'}", flush=True)
    print(f"{held} of {tried} held, in {time.monotonic() - began:.0f} s")


if __name__ == "__main__":
    main()
