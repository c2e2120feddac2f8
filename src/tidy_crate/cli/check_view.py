"""Show findings at a terminal: grouped by what to do next, errors first, one line each."""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Sequence
from datetime import date
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from tidy_crate.cli.show import cell, counted, heading, money, show_next, state, table
from tidy_crate.cli.text import clean
from tidy_crate.core.check.catalogue import in_groups
from tidy_crate.core.check.finding import Check, Finding, Next, Severity
from tidy_crate.core.check.mends import mendable
from tidy_crate.core.check.result import CheckResult, FarmVerdict
from tidy_crate.core.context.decisions import Waiver

# of one code so many are shown unless all are wanted
MOST_OF_A_KIND = 8
WIDEST_PLACE = 38
TITLES = {
    Next.RELINK: "Find the files",
    Next.AGREE: "Allow these files to leave this machine, or remove them from the scene",
    Next.BAKE: "Bake",
    Next.ORDER: "Say what is to be rendered, or state it in the scene",
    Next.MEND: "Let --mend fix these",
    Next.SCENE: "Change in the scene and save it",
    Next.COLLECT: "Collect again",
    Next.FARM: "Ask the farm, or use another one",
    Next.DECIDE: "Look and decide",
    Next.NOTHING: "For information",
}
_COMMANDS = {
    Next.RELINK: "tidy-crate relink {scene} --look-in FOLDER --apply",
    Next.AGREE: "tidy-crate collect {scene} --from-outside FOLDER --let-through FILE",
    Next.BAKE: "tidy-crate bake {scene}",
    Next.ORDER: "tidy-crate collect {scene} --frames 1-48 --size 1920x1080 --camera NAME",
    Next.MEND: "tidy-crate check {scene} --mend",
    Next.COLLECT: "tidy-crate collect SCENE -o {scene}",
    Next.DECIDE: 'tidy-crate waive {scene} CODE --because "..."',
}
GROUPS = {
    "C1": "Outputs", "C2": "Frames", "C3": "Cameras", "C4": "Resolution", "C5": "Files", "C6": "Simulations",
    "C7": "Programs", "C8": "Settings", "C9": "Fonts and colour", "C10": "Machines", "C11": "Money",
    "C12": "Same scene as collected", "C14": "Confidentiality", "B11": "Generators", "R12": "Newer versions",
}  # fmt: skip
_RANK = {Severity.ERROR: 0, Severity.WARNING: 1, Severity.NOTE: 2}


def groups(findings: Iterable[Finding]) -> list[tuple[Next, list[Finding]]]:
    """Findings by what to do next: what blocks comes first, and within that the order of the work."""
    found: dict[Next, list[Finding]] = {}
    for one in findings:
        found.setdefault(one.next, []).append(one)
    order = list(Next)
    return sorted(found.items(), key=lambda item: (min(_RANK[f.severity] for f in item[1]), order.index(item[0])))


def show(
    console: Console, result: CheckResult, target: Path, done: dict[str, Any], *, explained: bool, every: bool
) -> None:
    """All of it."""
    _show_done(console, done)
    standing = [one for one in result.findings if not one.waived]
    own = groups(one for one in standing if one.farm is None)
    _show_groups(console, [group for group in own if group[0] is not Next.NOTHING], target, explained, every)
    for farm in result.farms:
        at_farm = [one for one in standing if one.farm == farm.farm]
        if at_farm:
            heading(console, f"At {farm.title}")
            _print(console, _rows(at_farm, explained, every))
    _show_groups(console, [group for group in own if group[0] is Next.NOTHING], target, explained, every)
    _show_settled(console, result, every)
    _show_waived(console, result)
    if result.farms:
        _show_farms(console, result)
    _show_verdict(console, result)
    if not result.blocked and not result.farms:
        show_next(console, target)


def _show_done(console: Console, done: dict[str, Any]) -> None:
    for key, title in (("taken_back", "Taken back"), ("mended", "Fixed in the staged copy")):
        rows = done.get(key)
        if rows is None:
            continue
        heading(console, f"{title}: {len(rows) or 'nothing'}")
        for one in rows:
            what = one["says"] if "says" in one else one["because"]
            console.print(cell(f"  {one['code']}  {one['subject']}: {what}"), soft_wrap=True)
    if done.get("mended"):
        console.print("  Undo any of them: check --take-back CODE", style="dim")


def _show_groups(
    console: Console, found: Sequence[tuple[Next, list[Finding]]], target: Path, explained: bool, every: bool
) -> None:
    for then, own in found:
        console.print()
        console.print(Text(TITLES[then], style="bold"))
        if then in _COMMANDS:
            # a crate itself is never changed: all but collecting it again is done to the scene
            named = "SCENE" if target.is_dir() and then is not Next.COLLECT else shlex.quote(str(target))
            line = _COMMANDS[then].format(scene=named)
            console.print(Text(f"  {clean(line)}", style="cyan"), soft_wrap=True)
        _print(console, _rows(own, explained, every))


def _rows(findings: Sequence[Finding], explained: bool, every: bool) -> Table:
    rows = table("", "code", "where", "what is wrong")
    shown: dict[str, int] = {}
    for one in findings:
        shown[one.code] = shown.get(one.code, 0) + 1
        if shown[one.code] > MOST_OF_A_KIND and not every:
            continue
        # a finding that can be fixed shows the fix, the others the problem
        what = f"{one.message}; fix: {one.mend}" if one.mend else one.message
        if one.seen == "staged":
            what += " (in the staged copy only)"
        rows.add_row(state(one.severity.value), one.code, _place(one.subject), _what(what, one, explained))
    for code, count in shown.items():
        if count > MOST_OF_A_KIND and not every:
            rows.add_row("", code, Text(f"and {count - MOST_OF_A_KIND} more", style="dim"), Text("--all", style="dim"))
    return rows


def _what(what: str, one: Finding, explained: bool) -> Text:
    text = cell(what)
    if explained:
        text.append(f"\n{one.why}\n{one.remedy[:1].upper()}{clean(one.remedy[1:])}.", style="dim")
    return text


def _print(console: Console, rows: Table) -> None:
    rows.show_header = False
    # so that codes stand below one another in all groups
    rows.columns[0].min_width = len(Severity.WARNING.value)
    rows.columns[1].no_wrap = True
    rows.columns[2].no_wrap = True
    console.print(rows)


def _place(subject: str) -> Text:
    """A place, without its beginning where it is long: the end tells more."""
    plain = clean(subject)
    return Text(plain if len(plain) <= WIDEST_PLACE else "…" + plain[1 - WIDEST_PLACE :])


def _show_settled(console: Console, result: CheckResult, every: bool) -> None:
    if not result.settled and not result.mends:
        return
    heading(console, "Wrong in the scene as it was saved, right in the staged copy")
    for text in _settled_lines(result, every):
        console.print(Text("  ") + cell(text), style="dim", soft_wrap=True)


def _settled_lines(result: CheckResult, every: bool) -> list[str]:
    by_code: dict[str, list[str]] = {}
    mended = {(one.code, one.subject): one.because for one in result.mends}
    for one in result.settled:
        by_code.setdefault(one.code, []).append(mended.get((one.code, one.subject), clean(one.subject)))
    lines = []
    for code, subjects in by_code.items():
        some = subjects if every else subjects[:3]
        more = f" and {len(subjects) - len(some)} more" if len(subjects) > len(some) else ""
        lines.append(f"{code}  {', '.join(some)}{more}")
    return lines


def _show_waived(console: Console, result: CheckResult) -> None:
    lines = waiver_lines([one for one in result.findings if one.waived], result.accepted)
    if lines:
        heading(console, "Waived")
        for line in lines:
            console.print(Text("  ") + cell(line), style="dim", soft_wrap=True)
    for waiver in result.unused_waivers:
        subject = f" for {waiver.subject}" if waiver.subject else ""
        line = f"The waiver of {waiver.code}{subject} has no effect: {waiver.reason}."
        console.print(cell(line), style="yellow", soft_wrap=True)


def waiver_lines(waived: Iterable[Finding], accepted: Iterable[Waiver] = ()) -> list[str]:
    """A line for each waived finding, and for each waiver of a scene that its crate has nothing to show for."""
    lines = []
    for one in waived:
        who = _who(one.waived_by, one.waived_on)
        lines.append(f"{one.code}  {one.subject}: {one.message}; because: {one.waived_because}{who}")
    for waiver in accepted:
        subject = f"  {waiver.subject}:" if waiver.subject else " "
        lines.append(
            f"{waiver.code}{subject} about the scene itself; because: {waiver.because}{_who(waiver.by, waiver.on)}"
        )
    return lines


def _who(name: str, day: date | None) -> str:
    parts = [str(part) for part in (name, day) if part]
    return f" ({', '.join(parts)})" if parts else ""


def _show_farms(console: Console, result: CheckResult) -> None:
    console.print()
    priced = any(farm.cost is not None for farm in result.farms)
    heads = ("farm", "verdict", "errors", "warnings", "machines that can", *(("cost",) if priced else ()))
    rows = table(*heads, "what stands in the way", right=("errors", "warnings", "cost"))
    for farm in result.farms:
        able = [_machine(one.machine, one.tiles) for one in farm.machines if one.fits]
        first = obstacle(result, farm)
        cost = money(farm.cost, farm.currency) if farm.cost is not None else "?"
        rows.add_row(
            cell(farm.farm), _verdict(farm.blocked, farm.warnings), str(farm.errors), str(farm.warnings),
            cell(", ".join(able) or "none"), *([cost] if priced else []), cell(first),
        )  # fmt: skip
    console.print(rows)


def obstacle(result: CheckResult, farm: FarmVerdict) -> str:
    """Return what stands in the way of sending it there, the worst of it; empty where nothing does."""
    own = [f for f in result.findings if f.farm == farm.farm and not f.waived]
    worst = next((f for f in own if f.severity is not Severity.NOTE), None)
    return f"{worst.subject}: {worst.message}" if worst else "the scene itself" if farm.blocked else ""


def _machine(name: str, tiles: int) -> str:
    return f"{name} in {tiles} tiles" if tiles > 1 else name


def _verdict(blocked: bool, warnings: int) -> Text:
    if blocked:
        return Text("blocked", style="bold red")
    return Text("look first", style="yellow") if warnings else Text("ready", style="bold green")


def _show_verdict(console: Console, result: CheckResult) -> None:
    console.print()
    free = any(not farm.blocked for farm in result.farms)
    style = "bold green" if not result.blocked else "bold yellow" if free else "bold red"
    console.print(Text(clean(headline(result)), style=style))


def headline(result: CheckResult) -> str:
    """Return the outcome in a line."""
    counts = [counted(result.count(severity), severity.value) for severity in Severity]
    waived = sum(one.waived for one in result.findings) + len(result.accepted)
    shut = [farm.farm for farm in result.farms if farm.blocked]
    word = "Blocked" if result.blocked else "Ready"
    if shut and len(shut) < len(result.farms):
        word = f"Blocked at {', '.join(shut)}, free at {', '.join(f.farm for f in result.farms if not f.blocked)}"
    return f"{word}: {', '.join(counts)}" + (f", {waived} waived" if waived else "") + "."


def show_checks(console: Console, checks: Sequence[Check]) -> None:
    """The catalogue, or one check of it."""
    if len(checks) == 1:
        one = checks[0]
        console.print(Text(one.code, style="bold"), state(one.severity.value))
        console.print(cell(one.why))
        console.print(cell(f"Next: {TITLES[one.next].lower()}." + notes(one)), style="dim")
        return
    for need, own in in_groups().items():
        heading(console, f"{need}  {GROUPS.get(need, '')}".strip())
        rows = table("severity", "code", "what happens if it is ignored")
        rows.show_header = False
        for one in own:
            rows.add_row(state(one.severity.value), one.code, cell(one.why + notes(one)))
        console.print(rows)
    console.print(f"\n{counted(len(checks), 'check')}.")


def notes(one: Check) -> str:
    """Return the asides of a check in brackets; empty where there are none."""
    found = asides(one)
    return f" ({found})" if found else ""


def asides(one: Check) -> str:
    """Return what a check asks for besides the scene, and whether it needs a person; empty where nothing."""
    found = []
    if one.of_farm is not None:
        found.append("with --farm")
    if one.code.startswith("brief-"):
        found.append("with a brief")
    if one.code in mendable():
        found.append("--mend fixes it where no decision is needed")
    return ", ".join(found)
