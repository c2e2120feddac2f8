"""Leaving those files of sequences behind that no requested frame needs."""

from __future__ import annotations

from tidy_crate.core.scene.model import Survey
from tidy_crate.core.scene.playing import has_own_times, played_at
from tidy_crate.core.work.request import RenderRequest

# motion blur and interpolation look one file beyond the frame
MARGIN = 1


def trimmed(survey: Survey, requests: tuple[RenderRequest, ...]) -> tuple[Survey, dict[str, int]]:
    """The survey with only the files of sequences that the requests need; and how many each cut asset lost, by id.

    A sequence is cut where the scene says when each of its files plays, as of value clips, or when every requested
    frame has a file of its own number: otherwise it is held, looped or shifted in time, and only the renderer knows
    which of its files a frame uses.
    """
    frames = {number for request in requests for number in request.numbers()}
    wanted = {frame + beyond for frame in frames for beyond in range(-MARGIN, MARGIN + 1)}
    assets, left = [], {}
    for asset in survey.assets:
        if has_own_times(asset):
            played = played_at(asset, wanted)
            known, kept = True, tuple(member for member in asset.members if member in played)
        else:
            known = frames <= {member.frame for member in asset.members}
            kept = tuple(member for member in asset.members if member.frame in wanted)
        if len(asset.members) > 1 and known and len(kept) < len(asset.members):
            left[asset.id] = len(asset.members) - len(kept)
            asset = asset.model_copy(update={"members": kept})
        assets.append(asset)
    return survey.model_copy(update={"assets": tuple(assets)}), left
