"""Show probes and estimates."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from decimal import Decimal
from pathlib import Path

from rich.console import Console
from rich.text import Text

from tidy_crate.cli.show import cell, counted, duration, facts, heading, money, next_command, show_next, size, table
from tidy_crate.core.asset.frames import format_frames
from tidy_crate.core.crate.packing import is_crate
from tidy_crate.core.estimate.model import Estimate, Here, MoneyParts, Parts, Quote, least_by
from tidy_crate.core.estimate.probe_result import ProbeResult
from tidy_crate.core.estimate.what_if import Change, parse_change
from tidy_crate.core.job.experience import Accuracy
from tidy_crate.core.money import CENT
from tidy_crate.core.workflow.shot import options_of, send_line

PRACTICE_NOTE = "The timings come from the practice renderer: valid for the practice farm only."


def show_probe(console: Console, result: ProbeResult, crate: Path) -> None:
    """Show the test frames, and what they say of the whole."""
    if result.source:
        console.print(f"{counted(len(result.frames), 'timing')} from elsewhere: {result.source}. Nothing was rendered.")
        show_next(console, crate)
        return
    rows = table(
        "request", "frame", "seconds", "memory", "size", "chosen because", right=("frame", "seconds", "memory")
    )
    for one in result.frames:
        rows.add_row(
            cell(one.request),
            str(one.frame),
            duration(one.seconds),
            size(one.memory_bytes),
            f"{one.width} x {one.height}" + (f", {one.samples} samples" if one.samples else ""),
            cell(one.why),
        )
    console.print(rows)
    console.print()
    facts(
        console,
        [
            *(
                (
                    f"all {one.frames} frames" + (f" of {one.request}" if len(result.expected) > 1 else ""),
                    f"{duration(one.likely)} on this machine, between {duration(one.low)} and {duration(one.high)}",
                )
                for one in result.expected
            ),
            ("start and load", _start_and_load(result)),
            ("renderer", f"{result.renderer or 'unnamed'}, {result.cores_used:.1f} cores in use"),
        ],
    )
    if result.warning:
        console.print(f"{result.warning[:1].upper()}{result.warning[1:]}.")
    if result.basis == "practice":
        console.print(PRACTICE_NOTE, style="dim")
    show_next(console, crate)


def _start_and_load(result: ProbeResult) -> str:
    from tidy_crate.cli.show import duration

    own = f", of which {duration(result.startup_seconds)} before its first line" if result.startup_seconds else ""
    return f"{duration(result.load_seconds)}{own}, once per batch"


def show_estimate(
    console: Console,
    result: Estimate,
    target: str,
    named: Mapping[str, str],
    *,
    every: bool,
    parts: bool,
    plot: Path | None,
) -> None:
    """Show the quotes worth looking at, the one to take and why, and what cannot be taken.

    named: the card as the user named it, by farm.
    """
    shown = _worth_showing(result, every=every)
    rows = table("", "farm", "machine", "nodes x batch", "with", "cost", "likely between", "done in", "90 % by",
                 right=("cost", "done in", "90 % by"))  # fmt: skip
    for at in shown:
        quote = result.quotes[at]
        rows.add_row(*_row(quote, result, chosen=result.pick is not None and at == result.pick.index),
                     style="" if quote.eligible else "dim")  # fmt: skip
    rows.add_row(*_here_row(result.here))
    console.print(rows)
    if parts:
        picked = [result.quotes[result.pick.index]] if result.pick is not None else []
        _show_parts(console, [*picked, *(result.quotes[at] for at in shown)])
    if len(shown) < len(result.quotes):
        console.print(f"{len(result.quotes) - len(shown)} more ways were looked at; --all shows them.", style="dim")
    _show_refused(console, result.quotes)
    console.print()
    if result.pick is not None:
        _show_pick(console, result.quotes[result.pick.index], result)
    elif result.front:
        console.print("No option meets these limits.", style="red")
    else:
        console.print("No farm can take it.", style="red")
    if result.nearest:
        heading(console, "What would meet them")
        for one in result.nearest:
            text = (
                f"{one.change}: {one.farm}, {one.machine}, {money(one.cost.likely, one.cost.currency)} "
                f"(up to {money(one.cost.high, one.cost.currency)}), done in {duration(one.seconds.likely)} "
                f"(90 % by {duration(one.seconds.high)})"
            )
            console.print(cell(f"  {text}"), soft_wrap=True)
    for own in result.own_quotes:
        binding = "binding" if own.binding else "not binding"
        text = (
            f"{own.farm} itself says {money(own.cost, own.currency)} and {duration(own.seconds)} for "
            f"{counted(own.nodes, 'node')} of {own.machine}, {binding}."
        )
        console.print(cell(text), soft_wrap=True)
    _show_ground(console, result)
    if plot is not None:
        console.print(cell(f"Drawn: {plot}"), soft_wrap=True)
    if result.pick is not None:
        next_command(console, *order_of(target, result.quotes[result.pick.index], result.what_if, named))


def order_of(target: str, quote: Quote, what_if: str, named: Mapping[str, str]) -> list[str]:
    """Return the command that orders a quote: a crate is sent, the rest of a job is handed over.

    named: the card as the user named it, by farm.
    """
    farm = named.get(quote.farm, quote.farm)
    if not is_crate(Path(target)):
        return ["handover", target, "--to", farm, "--machine", quote.machine, "--nodes", str(quote.nodes),
                "--batch", str(quote.batch)]  # fmt: skip
    if quote.shares:
        words = ["send", target]
        for one in quote.shares:
            words += ["--farm", named.get(one.farm, one.farm), "--share", f"{one.farm}={one.frames}"]
    else:
        words = [*send_line(target, farm, options_of(quote))]
    change = parse_change(what_if) if what_if else Change()
    words += ["--size", f"{change.scale * 100:.4g}%"] if change.scale else []
    words += ["--samples", str(change.samples)] if change.samples else []
    return words + (["--frames", format_frames(change.frames)] if change.frames else [])


def _worth_showing(result: Estimate, *, every: bool) -> list[int]:
    """The front, the pick, and for each machine class the way with the least product of cost and time."""
    if every:
        return list(range(len(result.quotes)))
    best = least_by(result.quotes, range(len(result.quotes)), lambda quote: (quote.farm, quote.machine))
    chosen = {*_thinned(result.front), *(at for at in best.values() if not result.quotes[at].shares)}
    if result.pick is not None:
        chosen.add(result.pick.index)
    return sorted(chosen, key=lambda at: (not result.quotes[at].eligible, float(result.quotes[at].cost.likely), at))


def _thinned(front: Sequence[int], most: int = 8) -> list[int]:
    if len(front) <= most:
        return list(front)
    return [front[round(at * (len(front) - 1) / (most - 1))] for at in range(most)]


def _row(quote: Quote, result: Estimate, *, chosen: bool) -> tuple[str | Text, ...]:
    cost = quote.cost
    own = quote.cost_own
    converted = f" ({money(own.likely, own.currency)})" if own is not None and own.currency != cost.currency else ""
    extras = [quote.priority, "reclaimable" if quote.reclaimable else "", "split" if quote.shares else ""]
    nodes = " + ".join(f"{one.nodes} x {one.batch}" for one in quote.shares) or f"{quote.nodes} x {quote.batch}"
    return (
        "->" if chosen else "",
        cell(quote.farm),
        cell(quote.machine),
        nodes,
        cell(", ".join(one for one in extras if one)),
        money(cost.likely, cost.currency) + converted,
        f"{cost.low:.2f} and {cost.high:.2f}",
        duration(quote.seconds.likely),
        duration(quote.seconds.high),
    )


def _here_row(here: Here) -> tuple[str, ...]:
    cost = "nothing" if here.cost is None else money(here.cost.likely, here.cost.currency)
    between = "" if here.cost is None else f"{here.cost.low:.2f} and {here.cost.high:.2f}"
    return (
        "",
        "here",
        "this machine",
        "1",
        "",
        cost,
        between,
        duration(here.seconds.likely),
        duration(here.seconds.high),
    )


def _show_parts(console: Console, quotes: Sequence[Quote]) -> None:
    """Show what each part takes and costs, for one way of each machine class. A part that none has is left out."""
    first: dict[tuple[str, str], Quote] = {}
    for quote in quotes:
        if quote.parts is not None:
            first.setdefault((quote.farm, quote.machine), quote)
    chosen = list(first.values())
    times: dict[str, list[float]] = {}
    sums: dict[str, list[Decimal]] = {}
    for one in chosen:
        assert one.parts is not None
        took, paid = one.parts, one.parts.money
        for name, seconds in (*_steps(took), ("in all", one.seconds.likely)):
            times.setdefault(name, []).append(seconds)
        for name, amount in (*_amounts(paid), ("in all", one.cost.likely)):
            sums.setdefault(name, []).append(amount)
    times = {name: each for name, each in times.items() if max(each) >= 0.5}
    sums = {name: each for name, each in sums.items() if any(amount.quantize(CENT) for amount in each)}
    shown = {
        "What each part takes": {
            name: [duration(took) if took >= 0.5 else "-" for took in each] for name, each in times.items()
        },
        "What each part costs": {name: [f"{amount:.2f}" for amount in each] for name, each in sums.items()},
    }
    for title, columns in shown.items():
        heading(console, title)
        rows = table("farm", "machine", "nodes x batch", *columns, right=tuple(columns))
        for at, one in enumerate(chosen):
            cells = [each[at] for each in columns.values()]
            rows.add_row(cell(one.farm), cell(one.machine), f"{one.nodes} x {one.batch}", *cells)
        console.print(rows)
    console.print()


def _steps(parts: Parts) -> tuple[tuple[str, float], ...]:
    """The steps of the way in their order; together they take as long as it does."""
    return (
        ("upload", parts.upload), ("processing", parts.processing), ("queue", parts.queue), ("start-up", parts.startup),
        ("rendering", parts.rendering), ("frames home", parts.retrieval), ("bad frames again", parts.again),
        ("stitching", parts.stitching),
    )  # fmt: skip


def _amounts(paid: MoneyParts) -> tuple[tuple[str, Decimal], ...]:
    """The amounts of a bill; together they are the bill."""
    return (
        ("rendering", paid.rendering), ("discount", -paid.discount), ("storage", paid.storage), ("egress", paid.egress),
        ("up to the minimum", paid.minimum), ("tax", paid.tax),
    )  # fmt: skip


def _show_refused(console: Console, quotes: Sequence[Quote]) -> None:
    """Say why a machine class cannot be taken, once for each."""
    reasons: dict[tuple[str, str], dict[str, None]] = {}
    able = {(quote.farm, quote.machine) for quote in quotes if quote.eligible}
    for quote in quotes:
        if not quote.eligible and (quote.farm, quote.machine) not in able:
            reasons.setdefault((quote.farm, quote.machine), {}).update(dict.fromkeys(quote.reasons))
    for (farm, machine), why in reasons.items():
        console.print(cell(f"{farm}, {machine}: cannot be taken, {'; '.join(why)}"), style="red")


def _show_pick(console: Console, quote: Quote, result: Estimate) -> None:
    assert result.pick is not None
    if quote.shares:
        split = [f"{one.frames} frames at {one.farm} on {counted(one.nodes, 'node')}" for one in quote.shares]
        what = "split: " + " and ".join(split)
    else:
        extra = f", priority {quote.priority}" if quote.priority else ""
        extra += ", reclaimable machines" if quote.reclaimable else ""
        what = f"{quote.farm}, {counted(quote.nodes, 'node')} of {quote.machine}, batches of {quote.batch}{extra}"
    console.print(Text.assemble(("Take ", "bold"), (what, "bold"), f": {result.pick.why}."))
    if quote.parts is None:
        return
    parts = quote.parts
    steps = ", ".join(f"{name} {duration(took)}" for name, took in _steps(parts) if took >= 0.5)
    console.print(cell(f"  time: {steps}"), soft_wrap=True)
    paid, sums = parts.money, _amounts(parts.money)
    listed = ", ".join(f"{name} {amount:.2f}" for name, amount in sums if amount.quantize(CENT))
    again = f"bad frames that are rendered again add {paid.again:.2f} on average"
    console.print(cell(f"  money, in {quote.cost.currency}: {listed or 'nothing'}; {again}"))


def _show_ground(console: Console, result: Estimate) -> None:
    """Say what it rests on."""
    console.print()
    changed = f", with {result.what_if}" if result.what_if else ""
    facts(
        console,
        [
            ("for", counted(result.frames, "frame") + changed),
            ("from", f"{result.source}; the render time is known within a range of {result.width:.0%}"),
            *(("note", note) for note in result.notes),
        ],
    )
    console.print("Ranges hold in eight of ten cases. An estimate, not binding.", style="dim")
    if result.basis == "practice":
        console.print(PRACTICE_NOTE, style="dim")


def show_accuracy(console: Console, found: Sequence[Accuracy]) -> None:
    """Show estimate against actual."""
    if not found:
        console.print("No job that was sent with an estimate is finished yet.")
        return
    rows = table("job", "farm", "machine", "estimated", "range", "paid", "within", "time", "took", "frame time",
                 right=("estimated", "paid", "time", "took", "frame time"))  # fmt: skip
    for one in found:
        rows.add_row(
            cell(one.job),
            cell(one.farm),
            cell(one.machine),
            money(one.cost.likely, one.cost.currency),
            f"{one.cost.low:.2f}-{one.cost.high:.2f}",
            f"{one.paid:.2f}",
            "yes" if one.cost_in_range else "no",
            duration(one.seconds.likely),
            duration(one.took),
            f"{one.frame_factor:.2f} x" if one.frame_factor is not None else "?",
        )
    console.print(rows)
    kept = sum(one.cost_in_range for one in found)
    console.print(f"\n{kept} of {counted(len(found), 'bill')} within the range; the ranges promise eight of ten.")
    console.print("Estimate, range and bill count frames that were rendered again.", style="dim")
