"""A full survey with `needed`, side by side with USD's own dependency pass: `python benchmarks/survey.py [LAYERS ...]`.

Each side runs in a process of its own, so that neither profits from what the other has loaded.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from pathlib import Path

from scenes import TEXTURES_PER_LAYER, write_large_scene

OURS = """
import json, resource, sys, time
from pathlib import Path
from tidy_crate.core.scene.formats.usd.read import read
start = time.perf_counter()
survey = read(Path(sys.argv[1]), None, None, ())
seconds = time.perf_counter() - start
assert all(asset.status == "found" and asset.needed for asset in survey.assets)
print(json.dumps([seconds, len(survey.assets), resource.getrusage(resource.RUSAGE_SELF).ru_maxrss]))
"""
REFERENCE = """
import json, resource, sys, time
from pxr import Sdf, UsdUtils
start = time.perf_counter()
layers, assets, unresolved = UsdUtils.ComputeAllDependencies(sys.argv[1])
seconds = time.perf_counter() - start
print(json.dumps([seconds, len(layers) - 1 + len(assets), resource.getrusage(resource.RUSAGE_SELF).ru_maxrss]))
"""


def measure(program: str, scene: Path) -> tuple[float, int, float]:
    """Seconds, assets and MiB at the peak, the best of three."""
    runs = []
    for _ in range(3):
        line = [sys.executable, "-c", program, str(scene)]
        runs.append(json.loads(subprocess.run(line, capture_output=True, check=True, text=True).stdout))
    seconds, assets, memory = min(runs)
    return seconds, assets, memory / 1024


def main() -> None:
    """Print a line per size."""
    sizes = [int(word) for word in sys.argv[1:]] or [40, 400]
    print(f"{'assets':>8} {'survey':>9} {'reference':>9} {'ratio':>6} {'memory':>9} {'reference':>9}")
    for layers in sizes:
        with tempfile.TemporaryDirectory() as folder:
            scene = write_large_scene(Path(folder), layers)
            ours, assets, memory = measure(OURS, scene)
            theirs, counted, reference_memory = measure(REFERENCE, scene)
            assert assets == counted == layers * (TEXTURES_PER_LAYER + 1), (assets, counted)
            print(
                f"{assets:>8} {ours:>7.2f} s {theirs:>7.2f} s {ours / theirs:>6.2f}"
                f" {memory:>5.0f} MiB {reference_memory:>5.0f} MiB"
            )


if __name__ == "__main__":
    main()
