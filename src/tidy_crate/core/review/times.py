"""Frames that took far longer or shorter than those around them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np

from tidy_crate.core.context.review_rules import ReviewRules
from tidy_crate.core.review.rendered import Rendered
from tidy_crate.core.review.sign import Kind, Sign, Weight

# times that a comparison needs
FEW = 3
# frames to each side from which times are compared
AROUND = 12


def time_signs(frames: Sequence[tuple[int, Rendered | None]], rules: ReviewRules) -> Iterable[tuple[int, Sign]]:
    """Yield a note for each frame that took far longer or shorter than those around it."""
    # a frame that was rendered again came in another batch, which may have loaded the scene for it alone
    known = [one.seconds if one is not None and one.seconds and one.attempt == 1 else np.nan for _, one in frames]
    times = np.array(known, float)
    # the first frame of a batch has loaded the scene too
    begins = np.array([one is not None and one.begins for _, one in frames])
    for at, seconds in enumerate(times):
        around = slice(max(0, at - AROUND), at + AROUND + 1)
        near = times[around][begins[around] == begins[at]]
        near = near[~np.isnan(near)]
        if np.isnan(seconds) or len(near) < FEW:
            continue
        usual = float(np.median(near))
        ratio = seconds / usual if usual else 1.0
        if ratio > rules.slow or ratio < 1 / rules.slow:
            text = f"it took {seconds:.4g} s, {ratio:.2g} times what the frames around it took"
            yield (
                frames[at][0],
                Sign(kind=Kind.TIME, weight=Weight.NOTE, text=text, figure=round(ratio, 3), limit=rules.slow),
            )
