"""Decisions about findings: waivers and fixes, and their removal."""

from __future__ import annotations

from collections.abc import Callable

from tidy_crate.core.check.catalogue import check_of
from tidy_crate.core.check.finding import Severity
from tidy_crate.core.check.mends import Mend, mends_for
from tidy_crate.core.check.run import NOTHING, Against, checked
from tidy_crate.core.context.decisions import MendDecision, Waiver
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.errors import WrongUsage


def waive(context: SceneContext, waiver: Waiver) -> None:
    """Record a waiver. Raises WrongUsage for a code that does not exist, an error or a note: neither can be waived."""
    known = check_of(waiver.code)
    severity = Severity(context.project.rules().severity.get(waiver.code, known.severity))
    if severity is Severity.NOTE:
        raise WrongUsage("this is a note, which blocks nothing", waiver.code, "leave it; there is nothing to waive")
    if severity is Severity.ERROR:
        raise WrongUsage(
            "this is an error, and errors cannot be waived",
            waiver.code,
            "fix it; a missing file can be let go with relink --let-go",
        )
    context.file.add("waive", [waiver.model_dump(exclude_none=True, exclude_defaults=True)])


def mend(
    context: SceneContext, reopen: Callable[[], SceneContext], against: Against = NOTHING, by: str = ""
) -> tuple[Mend, ...]:
    """Fix what needs no human decision, and write it down among the decisions. Return what was done.

    reopen: opens the scene again with the decisions as they are now, since one mend may make the next possible.
    by: who decides, for the record, where it is no person.
    """
    done: dict[tuple[str, str], Mend] = {}
    for _ in range(5):
        staged, _as_found = checked(context, against)
        possible = {key: one for key, one in mends_for(staged).items() if key not in done}
        if not possible:
            break
        # a mend of an earlier version of the scene that holds no more makes room
        made = set(possible)
        context.file.drop_where("mend", lambda row, made=made: (row.get("code"), row.get("subject")) in made)  # type: ignore[misc]
        rows = [one.decision().as_written() for one in possible.values()]
        context.file.add("mend", [row | {"because": f"{row['because']} ({by})"} if by else row for row in rows])
        done |= possible
        context = reopen()
    return tuple(done.values())


def take_back(context: SceneContext, code: str) -> tuple[MendDecision, ...]:
    """Remove the mends of a check, or of all where `code` is `all`. Raises WrongUsage when there is none."""
    gone = tuple(one for one in context.decisions.mend if code in ("all", one.code))
    if not gone:
        known = ", ".join(sorted({one.code for one in context.decisions.mend})) or "none"
        raise WrongUsage("there is no such mend to take back", code, f"in force: {known}")
    context.file.drop_where("mend", lambda row: code in ("all", row.get("code")))
    return gone
