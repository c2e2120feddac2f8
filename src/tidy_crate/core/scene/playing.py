"""When the files of a sequence play, in the scene's own time: the one place that says so."""

from __future__ import annotations

import itertools
from bisect import bisect_right
from collections.abc import Iterable
from statistics import median

from tidy_crate.core.scene.model import Asset, AssetMember

# time codes that are the same time
NEAR = 1e-6


def has_own_times(asset: Asset) -> bool:
    """Return whether the scene says when each file plays, as it does of value clips.

    Otherwise a file belongs to the frame of its number, unless the renderer holds, loops or shifts it.
    """
    return bool(asset.members) and all(member.plays for member in asset.members)


def played_at(asset: Asset, times: Iterable[float]) -> set[AssetMember]:
    """Return the files of a sequence with times of its own that play at any of some times of the scene.

    A file plays until the next one does, and the first one before its time too. Between the times from which two play
    a value is interpolated between the two: both do.
    """
    moments = sorted(set(times))
    found: set[AssetMember] = set()
    for line in _lines(asset):
        starts = [start for start, _ in line]
        for moment in moments:
            at = max(0, bisect_right(starts, moment + NEAR) - 1)
            found.add(line[at][1])
            if starts[at] < moment - NEAR and at + 1 < len(line):
                found.add(line[at + 1][1])
    return found


def spans(asset: Asset) -> list[tuple[float, float]]:
    """Return from when to when the files of a sequence play, none held for longer than is usual of them.

    One for each place that plays it, sorted, each once; in times of the scene.
    """
    found = set()
    for line in _lines(asset):
        starts = [start for start, _ in line]
        usual = median(later - earlier for earlier, later in itertools.pairwise(starts)) if len(starts) > 1 else 1.0
        found.add((starts[0], starts[-1] + usual))
    return sorted(found)


def _lines(asset: Asset) -> list[list[tuple[float, AssetMember]]]:
    """Return for each place that plays the sequence, from when on each file does, in order."""
    places = min((len(member.plays) for member in asset.members), default=0)
    return [
        sorted(((member.plays[place], member) for member in asset.members), key=lambda one: one[0])
        for place in range(places)
    ]
