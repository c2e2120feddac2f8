"""C5: image sequences and caches of a file per frame: gaps, and frames of the range without a file."""

from __future__ import annotations

import itertools
from collections.abc import Iterator

from tidy_crate.core.asset.frames import MOST_FRAMES, format_frames
from tidy_crate.core.check.finding import Checked, Next, Severity, Trouble, check
from tidy_crate.core.scene.model import Asset
from tidy_crate.core.scene.playing import has_own_times, spans

MOST_SHOWN = 50
# of a frame, what is rounding
SHORT = 1e-3


@check("sequence-gaps", Severity.ERROR, "C5", Next.RELINK)
def sequence_gaps(scene: Checked) -> Iterator[Trouble]:
    """At a missing file of a sequence the renderer shows black or the file before, and reports nothing."""
    wanted = scene.survey.frames.numbers()
    for asset, numbers in _sequences(scene):
        if has_own_times(asset):
            # its files are named one by one, and those that are missing are found missing
            continue
        # outside the range a hole matters only to a sequence that is shifted in time, which has no number of the range
        shifted = not any(number in wanted for number in numbers)
        lacking = (number for number in _holes(numbers) if shifted or number in wanted)
        inside = list(itertools.islice(lacking, MOST_SHOWN + 1))
        if inside:
            yield Trouble(asset.authored, f"it has no file for {_frames(inside)}", "render or copy the missing files")


@check("sequence-range-not-covered", Severity.WARNING, "C5", Next.RELINK)
def sequence_range_not_covered(scene: Checked) -> Iterator[Trouble]:
    """After its last file a sequence freezes, loops or turns black, depending on the renderer."""
    wanted = scene.survey.frames.numbers()
    for asset, numbers in _sequences(scene):
        if has_own_times(asset):
            for first, until in spans(asset):
                if first > wanted[0] + SHORT or until < wanted[-1] + 1 - SHORT:
                    what = (
                        f"it plays from {first:.6g} to {until:.6g} of the scene, the range is {wanted[0]}-{wanted[-1]}"
                    )
                    yield Trouble(asset.authored, what, "let it play for the whole range, or waive where it is held")
                    break
            continue
        inside = sum(number in wanted for number in range(max(wanted[0], numbers[0]), min(wanted[-1], numbers[-1]) + 1))
        shifted = not inside and len(numbers) >= len(wanted)
        if inside < len(wanted) and not shifted:
            what = f"it has files for {numbers[0]}-{numbers[-1]}, the range is {wanted[0]}-{wanted[-1]}"
            yield Trouble(asset.authored, what, "relink it to the whole sequence, or waive where it is held or looped")


def _sequences(scene: Checked) -> Iterator[tuple[Asset, list[int]]]:
    """The sequences that are needed, with the numbers of their files."""
    if not 0 < scene.survey.frames.count <= MOST_FRAMES:
        return
    for asset in scene.survey.assets:
        numbers = sorted({member.frame for member in asset.members if member.frame is not None})
        # a clip or a cache names its files one by one, and those that are missing are found missing
        if asset.needed and len(numbers) > 1 and len(numbers) == len(asset.members) and not asset.missing_members:
            yield asset, numbers


def _holes(numbers: list[int]) -> Iterator[int]:
    """The numbers that are missing in between. A sequence with one step throughout has no holes."""
    steps = sorted({later - earlier for earlier, later in itertools.pairwise(numbers)})
    step, there = steps[0], set(numbers)
    for earlier, later in itertools.pairwise(numbers) if len(steps) > 1 else ():
        first = earlier + step - (earlier - numbers[0]) % step
        # a name may hold any number: no more of them than can be looked at
        yield from (n for n in range(first, later, step)[: MOST_FRAMES + 1] if n not in there)


def _frames(numbers: list[int]) -> str:
    text = format_frames(numbers[:MOST_SHOWN])
    what = "frame" if len(numbers) == 1 else "frames"
    return f"{what} {text}" + (" and more" if len(numbers) > MOST_SHOWN else "")
