"""Bytes that are sent again after a change of 1 % in a file of 1 GiB: `python benchmarks/send_again.py`.

One contiguous overwrite, and one insertion. `benchmarks/run send-large send-small` measures what a whole crate takes.
"""

from __future__ import annotations

import os
import shutil
import tempfile
from pathlib import Path

from farms import MIB, empty_farm, stop_farm, tool, write_scene
from tidy_crate.practice.farm import control


def main() -> None:
    """Print the rows."""
    size = 1 << 30
    with tempfile.TemporaryDirectory(prefix="tidy-crate-bench-") as name:
        folder = Path(name)
        scene = write_scene(folder / "show", {"cache.bin": size})
        empty_farm(folder)
        try:
            first = _sent(folder, scene)
            cache, one = folder / "show" / "cache.bin", size // 100
            with cache.open("rb+") as stream:
                stream.seek(size // 3)
                stream.write(os.urandom(one))
            _show("overwritten", first, _sent(folder, scene))
            inserted = folder / "show" / "new.bin"
            with cache.open("rb") as source, inserted.open("wb") as target:
                target.write(source.read(size // 2))
                target.write(os.urandom(one))
                shutil.copyfileobj(source, target, 8 * MIB)
            inserted.replace(cache)
            _show("inserted", first, _sent(folder, scene))
        finally:
            stop_farm(folder)


def _sent(folder: Path, scene: Path) -> int:
    """Collect and send, and return the bytes that were uploaded."""
    tool(folder, "collect", scene, "-o", folder / "x.crate")
    card = folder / "farm" / control.CARD_NAME
    sent = tool(folder, "send", folder / "x.crate", "--farm", card, "--yes")
    return int(sent["submissions"][0]["uploaded_bytes"])


def _show(change: str, first: int, again: int) -> None:
    print(f"| send again, 1 % {change} | {first} B | {again} B | {again / first:.4f} |", flush=True)


if __name__ == "__main__":
    main()
