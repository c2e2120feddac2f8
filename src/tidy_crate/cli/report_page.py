"""The final record of a job as one HTML file that holds all it shows."""

from __future__ import annotations

import base64
import tempfile
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING

from tidy_crate.cli.html import filled
from tidy_crate.cli.show import by_frames, counted, duration, money, size, sums
from tidy_crate.core.errors import WrongUsage

if TYPE_CHECKING:
    from tidy_crate.core.review.record import Record

# rows of a table that are shown
MOST = 60


def page(found: Record) -> bytes:
    """Return the page."""
    return filled(
        "report.html.j2",
        found=found,
        most=MOST,
        sheets=_sheets(found),
        timeline=_timeline(found),
        paid=_paid(found),
        poor=_grouped(found),
        money=money,
        duration=duration,
        size=size,
        counted=counted,
        total=sum(found.counts.values()),
    )


def _paid(found: Record) -> str:
    costs: dict[str, Decimal] = {}
    for one in found.submissions:
        costs[one.currency] = costs.get(one.currency, Decimal(0)) + one.cost
    return sums(costs) or "nothing"


def _grouped(found: Record) -> list[tuple[str, str, str, str]]:
    """Frames that are not good, those with the same reasons as one row: output, frames, verdict, reasons."""
    rows = ((one.frame, (one.output, one.verdict.value, "; ".join(one.reasons))) for one in found.poor)
    return [(output, frames, verdict, reasons) for frames, (output, verdict, reasons) in by_frames(rows)]


def _sheets(found: Record) -> list[str]:
    """The pages of the contact sheet, as addresses that hold the picture."""
    from tidy_crate.core.review.sheet import write_contact_sheet
    from tidy_crate.core.review.verdicts import Review

    if found.into is None:
        return []
    with tempfile.TemporaryDirectory(prefix="tidy-crate-report-") as scratch:
        pages = write_contact_sheet(Review(frames=found.frames), Path(scratch, "sheet.png"))
        return [_address(path, "image/png") for path in pages]


def _timeline(found: Record) -> str | None:
    from tidy_crate.core.review.looking import draw_timeline

    outputs = list(dict.fromkeys(one.output for one in found.frames))
    own = [one for one in found.frames if one.output == outputs[0]] if outputs else []
    with tempfile.TemporaryDirectory(prefix="tidy-crate-report-") as scratch:
        path = Path(scratch, "timeline.svg")
        try:
            draw_timeline(own, path, found.job)
        except WrongUsage:
            return None
        return _address(path, "image/svg+xml")


def _address(path: Path, kind: str) -> str:
    return f"data:{kind};base64,{base64.b64encode(path.read_bytes()).decode()}"
