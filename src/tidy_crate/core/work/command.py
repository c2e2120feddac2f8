"""The command line that renders a scene, as people write it down."""

from __future__ import annotations

import re
import sys
from collections.abc import Mapping
from pathlib import PurePosixPath, PureWindowsPath
from typing import Annotated

from pydantic import AfterValidator, Field, field_validator

from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.model import Model
from tidy_crate.core.patterns import in_words

# what a scene or an order may leave open, and how it is stated
UNSTATED = {
    "samples": "state them in the scene (docs/checks.md, settings maps), order them with --samples, or leave {samples} "
    "out of the command",
}
_HOLDER = re.compile(r"\{([a-z_]*)\}")


def _absolute(path: str) -> str:
    if not (PurePosixPath(path).is_absolute() or PureWindowsPath(path).is_absolute()):
        raise ValueError(f"{path!r} is not absolute")
    return path


class RenderCommand(Model):
    """A command line that renders frames of a scene: a list of words with placeholders.

    Placeholders: {python} {scene} {host_scene} {frames} {camera} {width} {height} {samples} {output_folder}.
    """

    command: tuple[str, ...] = Field(min_length=1)
    """The program and its arguments, one word each."""
    frame_done: str | None = None
    """A regular expression for the line that it prints per finished frame, with the groups `frame` and `seconds`.

    Without it the time of a whole run counts for its frames.
    """
    steps: bool = False
    """True if {frames} may hold steps, such as `2-11x3`; else it holds numbers and ranges only, such as `1-10,15`."""
    basis: str = "measured"
    """`practice` marks timings that say nothing about a real renderer."""
    reads: tuple[Annotated[str, AfterValidator(_absolute)], ...] = ()
    """Absolute paths of files and folders outside the crate that the renderer itself needs: libraries, licences."""
    name: str = ""
    """The renderer's name."""
    version: str = ""
    """The renderer's version."""
    samples: int | None = Field(default=None, ge=1)
    """Samples that the scene itself states: what {samples} stands for where an order leaves them to the scene."""

    @field_validator("frame_done")
    @classmethod
    def _has_its_groups(cls, text: str | None) -> str | None:
        if text is not None:
            in_words("frame_done", text, ["frame", "seconds"])
        return text

    def samples_of(self, ordered: int | None) -> dict[str, str]:
        """Return the value of {samples}: as ordered, else as the scene states; none where neither does.

        For the practice renderer 0 is the scene's own.
        """
        found = ordered if ordered is not None else self.samples
        if found is None and self.basis != "practice":
            return {}
        return {"samples": str(found or 0)}

    @property
    def program(self) -> str:
        """Name and version."""
        return f"{self.name} {self.version}".strip()


def filled_runtime(command: tuple[str, ...]) -> list[str]:
    """Return the words with only the placeholder of this Python filled in."""
    return [word.replace("{python}", sys.executable) for word in command]


def filled(command: tuple[str, ...], values: Mapping[str, str]) -> list[str]:
    """Return the words with their placeholders filled in. Raises WrongUsage on a placeholder that is not known."""
    known = {"python": sys.executable, **values}

    def value(match: re.Match[str]) -> str:
        if match[1] in UNSTATED and match[1] not in known:
            what = f"the command asks for {match[0]}, and nothing states {match[1]}"
            raise WrongUsage(what, " ".join(command)[:200], UNSTATED[match[1]])
        if match[1] not in known:
            raise WrongUsage(
                "the command has an unknown placeholder",
                match[0],
                "use one of " + " ".join(f"{{{k}}}" for k in known),
            )
        return known[match[1]]

    return [_HOLDER.sub(value, word) for word in command]
