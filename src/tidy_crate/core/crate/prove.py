"""The outer half of the proof: a fresh process with an empty working folder and nothing of the user's around it."""

from __future__ import annotations

import os
import subprocess
import tempfile
from collections.abc import Mapping
from pathlib import Path

from tidy_crate.core.crate.packing import PackingList, read_packing_list
from tidy_crate.core.crate.proving import Proof
from tidy_crate.core.errors import TidyCrateError, WrongUsage
from tidy_crate.core.process import own_helper
from tidy_crate.core.work.running import Commands

# all a fresh process may know of this one: where programs are, and what Windows cannot start without
_KEPT = (
    "PATH",
    "PYTHONPATH",
    "LD_LIBRARY_PATH",
    "DYLD_LIBRARY_PATH",
    "SYSTEMROOT",
    "SYSTEMDRIVE",
    "PATHEXT",
    "LANG",
)
TIME_LIMIT = 3600.0


def prove(
    crate: Path, environment: Mapping[str, str], commands: Commands, frame: int | None = None, test: bool = True
) -> Proof:
    """Show that a crate is whole with no way back to the originals, which are neither moved nor touched.

    environment: of the caller. commands: says whether the render command is trusted.
    frame: the test frame, the middle one of the first request when None.
    test: whether to render one; without a render command none is. Raises NotTrusted.
    """
    crate = Path(os.path.realpath(crate))
    content = read_packing_list(crate)
    for folder in content.render.reads if content.render is not None else ():
        if crate.is_relative_to(os.path.realpath(folder)):
            what = "the render command reads a folder that holds the crate, so nothing would be proven"
            raise WrongUsage(what, folder, "name the renderer's own folders under reads")
    chosen = _test_frame(content, frame) if test and content.render is not None and content.requests else None
    if chosen is not None and content.render is not None:
        commands.need(content.render.command)
    with tempfile.TemporaryDirectory(prefix="tidy-crate-proof-") as folder:
        scratch = Path(os.path.realpath(folder))
        (scratch / "empty").mkdir()
        kept = {name: value for name, value in environment.items() if name.upper() in _KEPT}
        kept |= {name: str(scratch) for name in ("HOME", "USERPROFILE", "TMPDIR", "TEMP", "TMP")}
        # no bytecode: the runtime's folders are not writable from inside
        kept |= {"PYTHONDONTWRITEBYTECODE": "1", "PYTHONIOENCODING": "utf-8"}
        line, _ = own_helper("tidy_crate.core.crate.proving", str(crate), str(scratch))
        done = subprocess.run(
            [*line, "-" if chosen is None else str(chosen)],
            cwd=scratch / "empty",
            env=kept,
            stdin=subprocess.DEVNULL,
            capture_output=True,
            timeout=TIME_LIMIT,
            check=False,
        )
    if done.returncode != 0:
        tail = done.stderr.decode("utf-8", "replace").strip().splitlines()[-1:]
        raise TidyCrateError(f"the proof itself failed ({' '.join(tail)[:300]})", crate)
    return Proof.model_validate_json(done.stdout)


def _test_frame(content: PackingList, frame: int | None) -> int:
    numbers = content.requests[0].numbers()
    if frame is None:
        return numbers[len(numbers) // 2]
    if frame not in numbers:
        raise WrongUsage("the test frame is not among the frames of the crate", frame, content.requests[0].frames)
    return frame
