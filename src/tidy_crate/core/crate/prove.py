"""The outer half of the proof: a fresh process with an empty working folder and nothing of the user's around it."""

from __future__ import annotations

import os
import subprocess
import tempfile
from collections.abc import Mapping
from pathlib import Path

from tidy_crate.core.crate.packing import PackingList, read_packing_list
from tidy_crate.core.crate.proving import Proof
from tidy_crate.core.crate.test_frames import TestFrame, keep_test_frames, probe_folder, taken_over
from tidy_crate.core.errors import TidyCrateError, WrongUsage
from tidy_crate.core.process import own_helper, started_here
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
    crate: Path,
    environment: Mapping[str, str],
    commands: Commands,
    frame: int | None = None,
    test: bool = True,
    keep: bool = True,
) -> Proof:
    """Show that a crate is whole with no way back to the originals, which are neither moved nor touched.

    environment: of the caller. commands: says whether the render command is trusted.
    frame: the test frame, the middle one of the first request when None.
    test: whether to render one; without a render command none is. keep: a good one is kept beside the crate, to compare
    the farm's frames with. Raises NotTrusted.
    """
    crate = Path(os.path.realpath(crate))
    content = read_packing_list(crate)
    for folder in content.render.reads if content.render is not None else ():
        if crate.is_relative_to(os.path.realpath(folder)):
            what = "the render command reads a folder that holds the crate, so nothing would be proven"
            raise WrongUsage(what, folder, "name the renderer's own folders under reads")
    chosen = _test_frame(content, frame) if test and content.render is not None and content.requests else None
    if chosen is not None and content.render is not None:
        commands.need(content.render.command, content.render.reads)
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
            env=started_here(kept),
            # no terminal: what stands in the crate could type into the shell behind it
            start_new_session=True,
            stdin=subprocess.DEVNULL,
            capture_output=True,
            timeout=TIME_LIMIT,
            check=False,
        )
        if done.returncode != 0:
            tail = done.stderr.decode("utf-8", "replace").strip().splitlines()[-1:]
            raise TidyCrateError(f"the proof itself failed ({' '.join(tail)[:300]})", crate)
        proof = Proof.model_validate_json(done.stdout)
        frames = _kept(crate, content, proof, scratch) if keep else {}
    if proof.test_frame is None:
        return proof
    return proof.model_copy(update={"test_frame": proof.test_frame.model_copy(update={"files": frames})})


def _kept(crate: Path, content: PackingList, proof: Proof, scratch: Path) -> dict[str, str]:
    """Keep a good test frame beside the crate. Return where its files are, by output."""
    tested = proof.test_frame
    if tested is None or not tested.good or not tested.files:
        return {}
    # the renderer ran in a sandbox and may have left anything: only plain files of its own folder are taken
    files = {name: Path(os.path.realpath(path)) for name, path in tested.files.items()}
    if not all(path.is_relative_to(scratch) and path.is_file() for path in files.values()):
        return {}
    request = content.requests[0]
    found = taken_over(crate, files, request.name, "prove")
    keep_test_frames(
        crate,
        [
            TestFrame(
                request=request.name, view=request.view_names[0], frame=tested.frame, width=request.width,
                height=request.height, samples=request.samples, by="prove", contents=content.digest, files=found,
            )
        ],
    )  # fmt: skip
    folder = probe_folder(crate)
    return {name: str(folder / path) for name, path in found.items()}


def _test_frame(content: PackingList, frame: int | None) -> int:
    numbers = content.requests[0].numbers()
    if frame is None:
        return numbers[len(numbers) // 2]
    if frame not in numbers:
        raise WrongUsage("the test frame is not among the frames of the crate", frame, content.requests[0].frames)
    return frame
