"""All checks, side by side with the survey they look at: `python benchmarks/check.py [LAYERS ...]`.

Checks are timed on a scene against a farm card, as `check --farm` runs them, once the survey is there. What a farm card
needs besides is shown apart: where each file would lie in the crate, and adding up the memory.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from pathlib import Path

from scenes import TEXTURES_PER_LAYER, write_large_scene

PROGRAM = """
import json, sys, time
from datetime import date
from pathlib import Path
from tidy_crate.core.check.catalogue import catalogue
from tidy_crate.core.check.finding import Checked, OnFarm
from tidy_crate.core.check.judge import run_checks
from tidy_crate.core.crate.layout import lay_out
from tidy_crate.core.farm.card import read_card
from tidy_crate.core.context.scene import open_scene
from tidy_crate.core.scene.memory_need import memory_need
catalogue()
context = open_scene(Path(sys.argv[1]))
card = read_card(Path(sys.argv[2]))
start = time.perf_counter()
survey = context.survey()
surveyed = time.perf_counter()
places = lay_out(survey, context.plan, context.project).places
laid_out = time.perf_counter()
scene = Checked(survey, Path(sys.argv[1]).parent)
files = tuple((str(place), 0) for place in places.values())
result = run_checks(scene, farms=[OnFarm(scene, card, date(2026, 11, 20), files=files)])
checked = time.perf_counter()
need = memory_need(context.format, context.scene, context.plan, survey)
done = time.perf_counter()
assert need.texture_files == len(survey.assets) - int(sys.argv[3]), need
assert not any(finding.code.startswith("file-") for finding in result.findings), result.findings[:3]
print(json.dumps([surveyed - start, laid_out - surveyed, checked - laid_out, done - checked, len(survey.assets)]))
"""
CARD = """\
name = "large"
currency = "EUR"
rates_from = 2026-11-01
[nodes]
system = "windows"
unpacked_in = "/jobs/"
[outputs]
path = "relative"
[limits]
path_length = 240
upload_gb = 100
[[machine]]
name = "one"
nodes = 1
score = 100
memory_gb = 64
price_per_hour = "1.00"
"""


def measure(scene: Path, card: Path, layers: int) -> tuple[float, float, float, float, int]:
    """Seconds of survey, layout, checks and memory, and the assets: the run of three with the quickest checks."""
    runs = []
    for _ in range(3):
        line = [sys.executable, "-c", PROGRAM, str(scene), str(card), str(layers)]
        runs.append(json.loads(subprocess.run(line, capture_output=True, check=True, text=True).stdout))
    survey, layout, checks, memory, assets = min(runs, key=lambda run: run[2])
    return survey, layout, checks, memory, assets


def main() -> None:
    """Print a line per size."""
    sizes = [int(word) for word in sys.argv[1:]] or [40, 400]
    print(f"{'assets':>8} {'survey':>9} {'checks':>9} {'share':>6} {'layout':>9} {'memory':>9}")
    for layers in sizes:
        with tempfile.TemporaryDirectory() as folder:
            scene = write_large_scene(Path(folder), layers)
            card = Path(folder, "large.farm.toml")
            card.write_text(CARD)
            survey, layout, checks, memory, assets = measure(scene, card, layers)
            assert assets == layers * (TEXTURES_PER_LAYER + 1), assets
            share = checks / survey
            print(f"{assets:>8} {survey:>7.2f} s {checks:>7.2f} s {share:>6.3f} {layout:>7.2f} s {memory:>7.2f} s")


if __name__ == "__main__":
    main()
