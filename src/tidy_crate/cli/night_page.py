"""A night of shots as a page: for those who do not sit at this machine, and for the morning after."""

from __future__ import annotations

import base64
import io
from typing import TYPE_CHECKING

from tidy_crate.cli.html import filled
from tidy_crate.cli.show import duration, money, sums
from tidy_crate.core.errors import TidyCrateError
from tidy_crate.core.workflow.night_news import NEEDS_YOU
from tidy_crate.core.workflow.night_standing import COLUMNS, ShotWord

if TYPE_CHECKING:
    from collections.abc import Sequence
    from pathlib import Path

    from tidy_crate.core.workflow.morning import ShotOutcome
    from tidy_crate.core.workflow.night_standing import NightStanding

SECONDS = 10
# pixels of a frame on the page
SMALL = (192, 108)


def night_page(now: NightStanding, *, refresh: bool, outcomes: Sequence[ShotOutcome] = ()) -> bytes:
    """Return the page. It holds all it needs.

    refresh: whether it asks for itself again. outcomes: what came of the shots, at the end.
    """
    counts = [(word.value, now.count(word)) for word in ShotWord if now.count(word)]
    return filled(
        "night.html.j2",
        night=now,
        columns=tuple(COLUMNS),
        counts=counts,
        asked=[one for one in now.shots if one.state in NEEDS_YOU],
        done=now.count(ShotWord.DONE),
        total=len(now.shots),
        share=100 * now.count(ShotWord.DONE) // max(1, len(now.shots)),
        billed=sums(now.billed),
        likely=sums(now.forecast),
        budget=money(now.budget, now.currency) if now.budget is not None else "",
        took=duration((now.now - now.began).total_seconds()),
        at=f"{now.now:%a %d %b %H:%M:%S}",
        finish=f"{now.finish:%a %d %b %H:%M}" if now.finish is not None else "",
        refresh=SECONDS if refresh else None,
        money=money,
        sums=sums,
        outcomes=[(one, [_picture(path) for path in one.pictures]) for one in outcomes],
    )


def _picture(path: Path) -> str:
    """Return a small picture of a frame as an address that holds it; empty for one that cannot be shown."""
    from PIL import Image

    from tidy_crate.core.picture.thumbnail import thumbnail

    try:
        found = thumbnail(path, *SMALL)
    except (TidyCrateError, OSError, ValueError):
        return ""
    data = io.BytesIO()
    Image.frombytes("RGB", (found.width, found.height), found.pixels).save(data, "JPEG", quality=82)
    return f"data:image/jpeg;base64,{base64.b64encode(data.getvalue()).decode()}"
