"""Test frames of a crate: what `prove` and `probe` render here is kept, to compare the farm's frames with."""

from __future__ import annotations

import shutil
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field

from tidy_crate.core.errors import Blocked
from tidy_crate.core.files import read_json, write_json
from tidy_crate.core.model import FrameNumber, Model, validated
from tidy_crate.core.schema import Schema
from tidy_crate.core.work.product import output_folder

RECORD = "test-frames.json"
SCHEMA = Schema("record of test frames", "test_frames", 1)


class TestFrame(Model):
    """One frame that was rendered here."""

    __test__ = False  # for pytest: no test case

    request: str
    view: str = ""
    frame: FrameNumber
    width: Annotated[int, Field(ge=1)]
    height: Annotated[int, Field(ge=1)]
    samples: int | None
    """Samples per pixel; None as the scene has it."""
    by: Literal["prove", "probe"]
    contents: str
    """Digest of the packing list of the crate that was rendered."""
    files: dict[str, str]
    """By output, the path of its file, below the folder of test frames."""

    @property
    def key(self) -> tuple[str, str, int, int, int, int | None]:
        """Return what tells two test frames apart."""
        return self.request, self.view, self.frame, self.width, self.height, self.samples


class TestFrames(Model):
    """All test frames of a crate."""

    __test__ = False

    test_frames: int = 1
    frames: tuple[TestFrame, ...] = ()


def probe_folder(crate: Path) -> Path:
    """Return where timings and test frames of a crate are: beside it, since the crate itself knows no machine.

    Raises Blocked when a link stands there.
    """
    folder = crate.parent / f"{crate.name.removesuffix('.crate')}.probe"
    if folder.is_symlink():
        raise Blocked("a link stands where test frames would be written", folder, "look at it, and remove it")
    return folder


def read_test_frames(crate: Path) -> tuple[TestFrame, ...]:
    """Return the test frames of a crate; none where none were rendered. Raises UnreadableInput on a damaged record."""
    path = probe_folder(crate) / RECORD
    if not path.is_file():
        return ()
    content = SCHEMA.upgraded(read_json(path, SCHEMA.what), path)
    return validated(TestFrames, content, SCHEMA.what, path).frames


def keep_test_frames(crate: Path, frames: Iterable[TestFrame]) -> None:
    """Note test frames whose files are in place. Earlier ones of the same frame and size are replaced."""
    new = tuple(frames)
    contents = {one.contents for one in new}
    # those of an earlier state of the crate say nothing about this one
    kept = {one.key: one for one in read_test_frames(crate) if one.contents in contents} if new else {}
    kept |= {one.key: one for one in new}
    ordered = tuple(kept[key] for key in sorted(kept, key=lambda key: (*key[:5], key[5] or 0)))
    write_json(probe_folder(crate) / RECORD, TestFrames(frames=ordered).model_dump(mode="json"))


def taken_over(crate: Path, files: Mapping[str, Path], request: str, by: str) -> dict[str, str]:
    """Move rendered files to the crate's test frames. Return their paths below that folder, by output."""
    folder = probe_folder(crate)
    found = {}
    for output, path in files.items():
        relative = Path("frames", request, by, output_folder(output), path.name)
        target = folder / relative
        target.parent.mkdir(parents=True, exist_ok=True)
        target.unlink(missing_ok=True)  # never through a link that stands there
        shutil.move(path, target)
        found[output] = relative.as_posix()
    return found
