"""A survey kept from one command to the next, with every question that it put to the disk.

It holds for as long as the disk gives the same answers: then nothing is opened and nothing is composed.
"""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from blake3 import blake3
from pydantic import BaseModel
from pydantic_core import from_json, to_json

from tidy_crate import __version__
from tidy_crate.core.asset.resolve import Disk, Member
from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.files import path_of, read_input, text_of, write_bytes
from tidy_crate.core.garbage import no_garbage_collection
from tidy_crate.core.plugins import installed
from tidy_crate.core.scene.model import Survey

if TYPE_CHECKING:
    from tidy_crate.core.asset.sequences import FrameTokens
    from tidy_crate.core.scene.formats.interface import SceneFormat
    from tidy_crate.core.scene.settings import SettingsMap
    from tidy_crate.core.scene.staging import StagingPlan
    from tidy_crate.core.work.request import RenderRequest

Derived = TypeVar("Derived", bound=BaseModel)
SUFFIX = ".survey"
# for one scene: as found and as staged, for some requests
MOST_KEPT = 6
# nanoseconds: a file changed within this time before it was read may change again and look the same
TOO_FRESH = 2_000_000_000
_MOST_BYTES = 1 << 30
# what changes how files are found and read, beside the scene itself
_VARIABLES = ("PXR_", "USD", "OCIO")


@dataclass
class Questions:
    """Questions of a survey to the disk, with the answers."""

    began: int = field(default_factory=time.time_ns)
    """Nanoseconds since the epoch."""
    files: dict[str, tuple[int, int] | str] = field(default_factory=dict)
    """Size in bytes and time of change in nanoseconds; or why a file cannot be used, in plain words."""
    folders: dict[str, int | None] = field(default_factory=dict)
    """Time of change in nanoseconds, None for one that cannot be listed."""

    def about(self, disk: Disk) -> None:
        """Take over all that was asked through a disk."""
        for path, answer in disk.looked_at():
            self.files[path] = (answer.bytes, answer.mtime_ns) if isinstance(answer, Member) else answer
        for folder in disk.listed():
            self.folder(folder)

    def file(self, path: Path) -> None:
        """Note a file that was read otherwise."""
        found = Disk.look_at(path)
        self.files[str(path)] = (found.bytes, found.mtime_ns) if isinstance(found, Member) else found

    def folder(self, path: Path) -> None:
        """Note a folder whose names were asked for."""
        self.folders[str(path)] = _changed(str(path))

    def are_settled(self) -> bool:
        """Return whether a later change of anything asked about would show in its answer.

        Not where nothing was told.
        """
        before = self.began - TOO_FRESH
        files = (answer[1] for answer in self.files.values() if not isinstance(answer, str))
        folders = (changed for changed in self.folders.values() if changed is not None)
        return bool(self.files) and all(changed < before for changed in (*files, *folders))

    def have_the_same_answers(self) -> bool:
        """Ask the disk again."""
        stat = os.stat
        unreadable = os.access if hasattr(os, "geteuid") and os.geteuid() != 0 else None
        for path, answer in self.files.items():
            if isinstance(answer, str):
                if Disk.look_at(Path(path)) != answer:
                    return False
                continue
            try:
                found = stat(path)
            except (OSError, ValueError):
                return False
            if found.st_size != answer[0] or found.st_mtime_ns != answer[1]:
                return False
            if unreadable is not None and not unreadable(path, os.R_OK):
                return False
        return all(_changed(folder) == changed for folder, changed in self.folders.items())

    def plain(self) -> dict[str, Any]:
        """As values that JSON knows, by folder."""
        by_folder: dict[str, list[list[Any]]] = {}
        for path, answer in self.files.items():
            folder, _, name = path.rpartition(os.sep)
            columns = by_folder.setdefault(text_of(folder), [[], [], []])
            size, changed = (answer, 0) if isinstance(answer, str) else answer
            for column, value in zip(columns, (text_of(name), size, changed), strict=True):
                column.append(value)
        return {"files": by_folder, "folders": {text_of(path): changed for path, changed in self.folders.items()}}

    @classmethod
    def of_plain(cls, values: dict[str, Any]) -> Questions:
        """The inverse of `plain`. Raises LookupError, TypeError or ValueError for anything else."""
        files: dict[str, tuple[int, int] | str] = {}
        for folder, (names, sizes, times) in values["files"].items():
            lead = path_of(folder) + os.sep
            for name, size, changed in zip(names, sizes, times, strict=True):
                files[lead + path_of(name)] = size if isinstance(size, str) else (int(size), int(changed))
        return cls(files=files, folders={path_of(path): changed for path, changed in values["folders"].items()})


class SurveyCache:
    """The survey of one scene under one plan: a kept one while it holds, else a new one."""

    def __init__(self, beside: Path | None, read: Callable[[Questions], Survey], *parts: object) -> None:
        """beside: a file of the user's own by which the scene is known; without one nothing is kept.

        read: makes the survey, and fills in what it asked. parts: all that it depends on beside the disk.
        """
        around = sorted((name, text_of(value)) for name, value in os.environ.items() if name.startswith(_VARIABLES))
        self._key = blake3(to_json([__version__, *parts, around], fallback=str)).hexdigest()
        self._stem = beside.stem if beside is not None else ""
        self._folder = beside.parent if beside is not None else None
        self._read = read
        self._holds = False

    def survey(self) -> Survey:
        """The survey. Raises what reading raises."""
        text = self._text()
        if text is not None:
            with contextlib.suppress(ValueError), no_garbage_collection():
                found = Survey.model_validate_json(text)
                self._holds = True
                return found
        questions = Questions()
        survey = self._read(questions)
        self._keep(questions, lambda: as_json(survey))
        return survey

    def derived(self, name: str, kind: type[Derived], make: Callable[[], Derived]) -> Derived:
        """Return what is worked out of this survey and its files alone. It is kept while the survey holds."""
        self._holds = self._holds or self._text() is not None
        if not self._holds:
            return make()
        path = self._file.with_suffix(f".{name}")
        with contextlib.suppress(OSError, ValueError):
            return kind.model_validate_json(read_input(path))
        found = make()
        with contextlib.suppress(OSError, TidyCrateError):
            write_bytes(path, found.model_dump_json(exclude=set(kind.model_computed_fields)).encode())
        return found

    def json(self) -> bytes:
        """The survey as JSON. Raises what reading raises, and ValueError as `as_json` does."""
        text = self._text()
        if text is not None:
            return text
        questions = Questions()
        text = written = as_json(self._read(questions))
        self._keep(questions, lambda: written)
        return text

    def _text(self) -> bytes | None:
        """The kept survey as JSON, None where none is kept that still holds."""
        import zstandard

        if self._folder is None:
            return None
        try:
            data = self._file.read_bytes()
            whole = zstandard.ZstdDecompressor().decompress(data, max_output_size=_MOST_BYTES)
            head, _, text = whole.partition(b"\n")
            values = from_json(head)
            same = values["key"] == self._key and Questions.of_plain(values).have_the_same_answers()
        except (OSError, LookupError, TypeError, ValueError, AttributeError, zstandard.ZstdError):
            return None
        return text if same else None

    def _keep(self, questions: Questions, text: Callable[[], bytes]) -> None:
        """Keep a survey. text: gives it as JSON."""
        import zstandard

        if self._folder is None or not questions.are_settled():
            return
        try:
            for old in self._folder.glob(f"{self._file.stem}.*"):
                old.unlink()  # with what was worked out of the survey that it was
            head = to_json({"key": self._key, **questions.plain()})
            write_bytes(self._file, zstandard.ZstdCompressor(level=1).compress(head + b"\n" + text()))
            self._holds = True
            for stale in self._others()[MOST_KEPT:]:
                for one in self._folder.glob(f"{stale.stem}.*"):
                    one.unlink(missing_ok=True)
        except (OSError, ValueError, TidyCrateError):
            return  # what cannot be kept costs time the next time, nothing else

    @property
    def _file(self) -> Path:
        assert self._folder is not None
        return self._folder / f"{self._stem}-{self._key[:16]}{SUFFIX}"

    def _others(self) -> list[Path]:
        assert self._folder is not None
        kept: Iterable[Path] = self._folder.glob(f"{self._stem}-*{SUFFIX}")
        return sorted(kept, key=lambda path: path.stat().st_mtime, reverse=True)


def kept_survey(
    form: SceneFormat,
    scene: Path,
    plan: StagingPlan | None,
    request: RenderRequest | None,
    maps: tuple[SettingsMap, ...],
    tokens: FrameTokens,
    survey_cache: Path | None,
) -> SurveyCache:
    """Return the survey that these make, kept by all that it depends on but the disk. See SceneFormat.read."""

    def read(questions: Questions) -> Survey:
        return form.read(scene, plan, request, maps, survey_cache, tokens, questions)

    edits = plan if plan is not None and plan.edits else None  # a plan without edits stages nothing
    # what reads scenes and the files that they name: with other parts it may find more
    parts = installed("tidy_crate.scene_formats", "tidy_crate.followers", "tidy_crate.usd_simulations")
    build = (form.name, form.reader, parts)
    return SurveyCache(survey_cache, read, text_of(scene), edits, request, maps, repr(tokens), *build)


def as_json(survey: Survey) -> bytes:
    """A survey as the JSON that a command shows. Raises ValueError for names that no encoding can write."""
    return survey.model_dump_json(indent=1).encode()


def _changed(folder: str) -> int | None:
    try:
        return os.stat(folder).st_mtime_ns  # noqa: PTH116 - by text, and quick
    except (OSError, ValueError):
        return None
