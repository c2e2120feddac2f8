"""Format tables, sizes, times and money."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import TYPE_CHECKING, Any, Literal, TypeVar

from rich import box
from rich.console import Console, ConsoleOptions, ConsoleRenderable, RenderHook, RenderResult
from rich.measure import Measurement
from rich.segment import Segment
from rich.table import Table
from rich.text import Text

from tidy_crate.cli.text import clean
from tidy_crate.core.asset.frames import format_frames

if TYPE_CHECKING:
    from pathlib import Path

    from tidy_crate.core.work.trust import Claim

Key = TypeVar("Key")
WHOLE = {
    "job", "farm", "range", "severity", "code", "id", "kind", "status", "state", "needed", "verdict", "node", "size",
    "cost", "frame",
}  # fmt: skip
STATES = {
    "works": "green", "broken": "red",
    "found": "green", "cached": "green", "good": "green", "done": "green", "retrieved": "green",
    "missing": "red", "live": "red", "bad": "red", "failed": "red", "error": "red",
    "partial": "yellow", "stale": "yellow", "suspect": "yellow", "warning": "yellow", "let-go": "yellow",
    "note": "cyan", "rendering": "cyan", "waiting": "dim", "waived": "dim",
}  # fmt: skip


class Cleaning(RenderHook):
    """The last step before a terminal: no control or direction character of a text is obeyed, wherever it came from."""

    def process_renderables(self, renderables: list[ConsoleRenderable]) -> list[ConsoleRenderable]:
        """See rich.console.RenderHook."""
        return [_Cleaned(one) for one in renderables]


@dataclass
class _Cleaned:
    inner: ConsoleRenderable

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        for segment in console.render(self.inner, options):
            if segment.control or segment.text.replace("\n", "").isprintable():
                yield segment
            else:
                yield Segment("\n".join(map(clean, segment.text.split("\n"))), segment.style)

    def __rich_measure__(self, console: Console, options: ConsoleOptions) -> Measurement:
        return Measurement.get(console, options, self.inner)


def table(*headers: str, right: Sequence[str] = ()) -> Table:
    """A table in the tool's own manner: a rule under the head, nothing else drawn."""
    found = Table(box=box.SIMPLE_HEAD, pad_edge=False, show_edge=False, header_style="bold", padding=(0, 2, 0, 0))
    for header in headers:
        justify: Literal["left", "right"] = "right" if header in right else "left"
        # words that are looked up or copied stay whole; what explains gives way
        found.add_column(header, justify=justify, overflow="fold", no_wrap=header in WHOLE)
    return found


def state(word: str) -> Text:
    """A state in its colour. The word carries the meaning, the colour only helps."""
    return Text(word, style=STATES.get(word, ""))


def cell(value: Any) -> Text:
    """Foreign text as a table cell."""
    return Text(clean(value))


def heading(console: Console, text: str) -> None:
    """A heading above a table."""
    console.print()
    console.print(Text(text, style="bold"))


def by_frames(rows: Iterable[tuple[int, Key]]) -> list[tuple[str, Key]]:
    """Join rows that differ in their frame only. Return each with its frames as a list: `1-40, 44`."""
    groups: dict[Key, set[int]] = {}
    for frame, key in rows:
        groups.setdefault(key, set()).add(frame)
    return [(format_frames(sorted(frames)), key) for key, frames in groups.items()]


def typed(words: Iterable[object]) -> str:
    """Return a command line as it is typed here: paths below this folder are short."""
    import os
    import shlex

    here = f"{os.getcwd()}{os.sep}"  # noqa: PTH109 - as text, which is what is cut
    return clean(shlex.join(["tidy-crate", *(text.removeprefix(here) for text in map(str, words))]))


def next_command(console: Console, *words: object) -> None:
    """Show the next sensible command, as a line to copy."""
    console.print()
    console.print(Text(f"Next: {typed(words)}", style="dim"), soft_wrap=True)


def show_next(console: Console, target: Path | str, *, crate: Path | None = None, tidy_dir: Path | None = None) -> None:
    """Show the line that brings a scene, a crate or a job on; where none does, what a person has to do."""
    from tidy_crate import api

    found = api.next_standing(target, crate_folder=crate, tidy_dir=tidy_dir)
    if found is None:
        return
    if found.next:
        next_command(console, *found.next[0])
    elif found.questions:
        asked = found.questions[0]
        console.print()
        console.print(Text(clean(f"Next: {asked.text}; {asked.remedy}"), style="dim"), soft_wrap=True)


def facts(console: Console, rows: Iterable[tuple[str, object]]) -> None:
    """Name and value, aligned."""
    grid = Table.grid(padding=(0, 2, 0, 0))
    for name, value in rows:
        grid.add_row(Text(name, style="dim"), value if isinstance(value, Text) else cell(value))
    console.print(grid)


def size(count: float) -> str:
    """Bytes for people, in powers of 1024."""
    for unit in ("B", "KiB", "MiB", "GiB"):
        if count < 1024:
            return f"{count:.0f} {unit}" if unit == "B" else f"{count:.1f} {unit}"
        count /= 1024
    return f"{count:.1f} TiB"


def duration(seconds: float | None) -> str:
    """A time span: 0.42 s, 12 s, 3 min 05 s, 2 h 40 min."""
    if seconds is None:
        return "?"
    if 0 < seconds < 0.01:
        return "under 0.01 s"
    if seconds < 10:
        return f"{seconds:.2f} s"
    if seconds < 60:
        return f"{seconds:.0f} s"
    minutes, rest = divmod(round(seconds), 60)
    if minutes < 60:
        return f"{minutes} min {rest:02d} s"
    return f"{minutes // 60} h {minutes % 60:02d} min"


def money(amount: Decimal, currency: str) -> str:
    """An amount with its currency, to the cent."""
    return f"{amount:.2f} {currency}"


def sums(costs: Mapping[str, Decimal]) -> str:
    """Amounts by currency; two currencies have no sum."""
    return " and ".join(money(amount, currency) for currency, amount in costs.items()) or "nothing"


def said_lines(console: Console, lines: Iterable[str]) -> None:
    """Show what a program said, line by line, set off from our own words."""
    for line in lines:
        console.print(Text(f"  | {clean(line)}"), soft_wrap=True)


def command_lines(console: Console, commands: Iterable[Claim]) -> None:
    """Show command lines that a project names, each with its purpose and the file that names it."""
    for one in commands:
        where = f"  ({clean(one.origin)})" if one.origin else ""
        console.print(
            Text.assemble("  ", (f"{one.purpose:<8}", "bold"), clean(one.line), (where, "dim")), soft_wrap=True
        )


def counted(number: int, word: str, many: str | None = None) -> str:
    """A number with its noun."""
    return f"{number} {word if number == 1 else many or word + 's'}"
