"""The same as the live view, as a page that refreshes itself: for those who do not sit at this machine."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Any

from tidy_crate.cli.html import filled
from tidy_crate.cli.show import duration, money, sums
from tidy_crate.cli.track_view import HEADINGS, MARKS, MEANINGS, next_step

if TYPE_CHECKING:
    from tidy_crate.core.job.grid import Grid
    from tidy_crate.core.job.track import JobView

SECONDS = 10
# cells of the grid on a page
CELLS = 1200


def page(view: JobView, grid: Grid, now: datetime) -> bytes:
    """Return the page. It holds all it needs, and asks for itself again while the job goes on."""
    ended = view.state in HEADINGS
    used = {MARKS.get(one.state, ("?", ""))[0] for one in grid.cells}
    return filled(
        "track.html.j2",
        view=view,
        grid=grid,
        rows=_rows(grid),
        marks={name: mark for name, (mark, _) in MARKS.items()},
        legend=[(mark, word, _kind(mark)) for mark, word in MEANINGS.items() if mark in used],
        now=f"{now.astimezone():%a %d %b %H:%M:%S}",
        refresh=None if ended and not view.billing else SECONDS,
        share=100 * view.done // max(1, view.total),
        so_far=sums(view.costs) or "nothing yet",
        left=duration(view.forecast.seconds_left) if view.forecast.seconds_left is not None else None,
        finish=f"{view.finish.astimezone():%a %d %b %H:%M}" if view.finish and not ended else None,
        next=next_step(view),
        ended=HEADINGS.get(view.state, ""),
        money=money,
        duration=duration,
    )


def _kind(mark: str) -> str:
    return next(name for name, (own, _) in MARKS.items() if own == mark)


def _rows(grid: Grid) -> list[tuple[str, list[dict[str, Any]]]]:
    found: dict[str, list[dict[str, Any]]] = {}
    for one in grid.cells:
        frames = str(one.first) if one.first == one.last else f"{one.first}-{one.last}"
        said = ", ".join(f"{count} {name}" for name, count in one.counts.items())
        found.setdefault(f"{one.request} {one.view}".strip(), []).append(
            {"mark": MARKS.get(one.state, ("?", ""))[0], "kind": one.state, "title": f"{frames}: {said}"}
        )
    return list(found.items())
