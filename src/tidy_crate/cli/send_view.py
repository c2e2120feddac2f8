"""The views of send: the submission, its cost, known problems, and the origin of each wish."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from rich.console import Console

    from tidy_crate.core.job.prepare import Sending
    from tidy_crate.core.job.send import Sent
    from tidy_crate.sending import Prepared


def show_prepared(console: Console, prepared: Prepared) -> None:
    """Show one submission before it is made."""
    from tidy_crate.cli.check_view import waiver_lines
    from tidy_crate.cli.show import cell, facts

    sending, card = prepared.sending, prepared.card
    request = sending.packing.requests[0]
    rows: list[tuple[str, object]] = [
        ("farm", f"{card.title or card.name}, {sending.nodes} x {sending.machine}, batches of {sending.batch}"),
        ("frames", f"{_frames(sending)} at {request.width} x {request.height}"),
        ("outputs", f"{', '.join(request.outputs)}: {sending.products} files"),
        ("estimate", _cost(prepared)),
        *_terms(prepared),
    ]
    facts(console, rows)
    for one in sending.differences:
        console.print(cell(f"{one.what}: {_short(one.asked)}, packed as {_short(one.packed)}"), style="cyan")
    moved = [f"{name} as {path}" for name, path in sending.overlay.outputs.items() if path != _own(sending, name)]
    if moved:
        console.print(cell(f"This farm is asked to write {', '.join(moved)}"), style="dim")
    if outside := sending.packing.from_outside:
        shown = ", ".join(outside[:6]) + (f" and {len(outside) - 6} more" if len(outside) > 6 else "")
        console.print(cell(f"from outside the project: {shown}"), style="yellow")
    quote, cap = prepared.quote, sending.options.cap
    if quote is not None and quote.eligible and cap is not None and quote.cost.likely > cap:
        console.print(
            cell(f"warning: the job will most likely reach its cap and be paused: {quote.cost.likely:.2f} is expected"),
            style="yellow",
        )
    for finding in sending.errors:
        console.print(cell(f"error: {finding.code}  {finding.subject}: {finding.message}"), style="red")
    for finding in sending.warnings:
        console.print(cell(f"warning: {finding.code}  {finding.subject}: {finding.message}"), style="yellow")
    for line in waiver_lines(sending.waived, sending.accepted):
        console.print(cell(f"waived: {line}"), style="dim")


def _short(text: str) -> str:
    return text if len(text) <= 100 else f"{text[:97]}..."


def _frames(sending: Sending) -> str:
    shown = ", ".join(one.frames for one in sending.ranges[:3])
    views = {view.name for request in sending.packing.requests for view in request.views}
    count = f" ({sending.tasks} tasks)"
    return _short(shown) + (f" in {len(views)} views" if len(views) > 1 else "") + count


def _cost(prepared: Prepared) -> str:
    from tidy_crate.cli.show import duration, money

    quote = prepared.quote
    if quote is None or not quote.eligible:
        return f"unknown: {prepared.no_quote}" if quote is None else "; ".join(quote.reasons)
    likely = quote.cost
    return (
        f"{money(likely.likely, likely.currency)}, between {likely.low:.2f} and {likely.high:.2f}; "
        f"done in {duration(quote.seconds.likely)}"
    )


def _terms(prepared: Prepared) -> list[tuple[str, object]]:
    """Terms that are not the usual ones."""
    from tidy_crate.cli.show import money

    options, sending = prepared.sending.options, prepared.sending
    found: list[tuple[str, object]] = []
    if options.start == "held":
        found.append(("start", f"held until: tidy-crate resume {sending.packing.name}-N"))
    if options.start == "tested":
        tests = ", ".join(one.frames for one in sending.tests)
        found.append(("start", f"test frames {tests} first; the rest after: tidy-crate resume"))
    if options.cap is not None:
        found.append(("cap", money(options.cap, prepared.card.currency)))
    if options.priority or options.reclaimable:
        words = [f"priority {options.priority}"] if options.priority else []
        words += ["reclaimable machines"] if options.reclaimable else []
        found.append(("terms", ", ".join(words)))
    if options.programs:
        found.append(("programs", ", ".join(f"{name} {version}" for name, version in options.programs.items())))
    return found


def show_upload(console: Console, prepared: Prepared, size: int | None) -> None:
    """Show how much would be uploaded. size: bytes, None where the farm cannot be asked."""
    from tidy_crate.cli.show import size as bytes_text

    if size is None:
        return
    whole = prepared.sending.delivered.bytes
    console.print(f"To upload: {bytes_text(size)} of {bytes_text(whole)}. Nothing was sent.")


def plan_document(prepared: Sequence[Prepared], uploads: Sequence[int | None]) -> dict[str, Any]:
    """The plan as JSON."""
    return {
        "plan": [
            one.sending.model_dump(mode="json", exclude={"packing", "delivered"})
            | {
                "requests": [request.model_dump(mode="json") for request in one.sending.packing.requests],
                "quote": one.quote.model_dump(mode="json") if one.quote is not None else None,
                "no_quote": one.no_quote,
                "upload_bytes": size,
            }
            for one, size in zip(prepared, uploads, strict=True)
        ]
    }


def show_wishes(console: Console, prepared: Prepared) -> None:
    """Show every wish in effect, and where it comes from."""
    from tidy_crate.cli.show import cell, table

    rows = table("wish", "value", "from")
    for one in prepared.sending.wishes:
        value = ", ".join(map(str, one.value)) if isinstance(one.value, (list, tuple)) else str(one.value)
        rows.add_row(cell(one.name.replace("_", "-")), cell(value), cell(one.origin))
    console.print(rows)


def _own(sending: Sending, name: str) -> str:
    return sending.packing.output(name).path


def show_sent(console: Console, sent: Sequence[Sent]) -> None:
    """Show what was sent, and how to go on."""
    from tidy_crate.cli.show import counted, size

    for job in sent:
        for one in job.submissions:
            how = "goes on" if job.continued else "is sent"
            console.print(
                f"Job {job.job} {how} to {one.farm}: {counted(one.tasks, 'frame')}, "
                f"{size(one.uploaded_bytes)} uploaded, {size(one.reused_bytes)} were there already."
            )
    if len(sent) == 1:
        console.print(f"Next: tidy-crate track {sent[0].job} --follow", style="dim")
    else:
        console.print("Next: tidy-crate jobs", style="dim")
