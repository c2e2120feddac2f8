"""Standing of a crate up to its job: prove, probe, estimate, send."""

from __future__ import annotations

from decimal import Decimal

from sqlalchemy import select

from tidy_crate.core.crate.packing import PackingList, read_packing_list
from tidy_crate.core.crate.proof_note import read_proof
from tidy_crate.core.errors import TidyCrateError, UnreadableInput
from tidy_crate.core.estimate.probe_result import read_probe
from tidy_crate.core.farm.protocol import JobState
from tidy_crate.core.job.ledger import submissions_of
from tidy_crate.core.job.tables import JobRow
from tidy_crate.core.money import Cost, rounded
from tidy_crate.core.workflow.shot import Offer, Shot, line_of, same_contents, words_of
from tidy_crate.core.workflow.standing import Question, Standing, StepName, StepState, counted, failed

# farms that are named in a sentence
MOST_NAMED = 4


def prove_step(shot: Shot) -> Standing:
    """Look what the last proof of the crate came to, as it is now."""
    name, command = StepName.PROVE, words_of("prove", shot.crate)
    content = read_packing_list(shot.crate)
    note = read_proof(shot.desk.proof_of(shot.crate))
    if note is None:
        return Standing(step=name, state=StepState.TO_DO, said="not proven on this machine", command=command)
    if note.contents != content.digest:
        return Standing(step=name, state=StepState.STALE, said="proven before it was collected again", command=command)
    if note.trouble and note.began:
        text = f"its test frame {note.frame} is not good: {note.trouble}"
    elif not note.whole:
        text = "the proof found that it is not complete"
    else:
        text = ""
    if text:
        ask = Question(text=text, commands=(command,))
        return Standing(step=name, state=StepState.PERSON, said=text, questions=(ask,), command=command)
    said = "complete" if note.enforced else "complete, but the system could not shut it off while it was tried"
    if note.trouble:
        said += f"; no test frame: {note.trouble}"
    elif note.frame is not None:
        said += f"; test frame {note.frame} is good"
    return Standing(step=name, state=StepState.DONE, said=said, command=command)


def probe_step(shot: Shot) -> Standing:
    """Look whether the crate has timings, of its present state."""
    name, command = StepName.PROBE, words_of("probe", shot.crate)
    content = read_packing_list(shot.crate)
    try:
        found = read_probe(shot.crate, content)
    except UnreadableInput as error:
        if content.render is None:
            typed = words_of("estimate", shot.crate, "--seconds-per-frame", "SECONDS")
            said = f"no render command here: {line_of(typed)}"
            return Standing(step=name, state=StepState.UNNEEDED, said=said)
        stale = "of something else" in error.what
        said = error.what if stale else "no test frame was timed yet"
        return Standing(step=name, state=StepState.STALE if stale else StepState.TO_DO, said=said, command=command)
    frames = {one.frame for one in found.frames}
    said = f"{counted(len(frames), 'test frame')} timed"
    return Standing(step=name, state=StepState.DONE, said=said, command=command)


def estimate_step(shot: Shot, offer: Offer | TidyCrateError | None, job: JobRow | None) -> Standing:
    """Say what the recommended way costs, or with what it was sent. offer: None where it was sent or has no farm."""
    name = StepName.ESTIMATE
    if job is not None:
        if job.estimate_likely is None:
            return Standing(step=name, state=StepState.UNNEEDED, said="it was sent without one")
        low, high = job.estimate_low or job.estimate_likely, job.estimate_high or job.estimate_likely
        cost = Cost(currency=job.estimate_currency or "EUR", low=low, likely=job.estimate_likely, high=high)
        return Standing(step=name, state=StepState.DONE, said=f"sent with {priced(cost)}", cost=cost)
    command = words_of("estimate", shot.crate, *(word for farm in shot.farms for word in ("--farm", farm)))
    if isinstance(offer, TidyCrateError):
        return failed(name, offer)
    if offer is None:
        return _without_farm(shot, name)
    if offer.quote is None:
        said = f"none can be made: {offer.no_quote}"
        return Standing(step=name, state=StepState.UNNEEDED, said=said, command=command)
    return Standing(
        step=name,
        state=StepState.DONE,
        said=in_words(offer),
        command=command,
        cost=offer.quote.cost,
        seconds=offer.quote.seconds.likely,
    )


def send_step(shot: Shot, offer: Offer | TidyCrateError | None, job: JobRow | None) -> Standing:
    """Look whether the crate was sent as it is; if not, whether it may be sent without a person."""
    name = StepName.SEND
    if job is not None:
        farms = ", ".join(dict.fromkeys(row.farm for row in job.submissions))
        if any(row.farm_job is None for row in job.submissions):
            said = f"{job.id} is not confirmed by {farms} yet"
            return Standing(step=name, state=StepState.STALE, said=said, command=_send(shot, offer))
        return Standing(step=name, state=StepState.DONE, said=f"{job.id} at {farms}")
    if offer is None:
        return _without_farm(shot, name)
    if isinstance(offer, TidyCrateError):
        return failed(name, offer)
    if offer.errors:
        asked = tuple(Question(text=text, commands=()) for text in offer.errors)
        said = f"{offer.name} would not take it: {offer.errors[0]}"
        return Standing(step=name, state=StepState.PERSON, said=said, questions=asked, command=offer.command)
    cost = offer.quote.cost if offer.quote is not None else None
    why = _over(cost, shot.cap)
    if why:
        ask = Question(text=why, commands=(offer.command,), remedy="send it yourself, or carry it with another --cap")
        return Standing(step=name, state=StepState.PERSON, said=why, questions=(ask,), command=offer.command, cost=cost)
    amount, currency = shot.cap or (Decimal(0), "")
    said = f"to {offer.name}, for {amount:.2f} {currency} at the most"
    return Standing(step=name, state=StepState.TO_DO, said=said, command=offer.command, cost=cost)


def in_words(offer: Offer) -> str:
    """Return an offer as a sentence: where, on what, for how much and how long."""
    quote = offer.quote
    if quote is None:
        return f"{offer.name}: no estimate"
    return f"{offer.name}, {quote.nodes} x {quote.machine}: {priced(quote.cost)}"


def priced(cost: Cost) -> str:
    """Return a cost with its range, to the cent."""
    return f"{rounded(cost.likely)} {cost.currency} ({rounded(cost.low)}-{rounded(cost.high)})"


def job_of(shot: Shot, content: PackingList | None) -> JobRow | None:
    """Return the newest job that was sent of a crate as it is, with all of its frames; None where there is none.

    Jobs of a few frames only, such as tests, are none of the whole.
    """
    ledger = shot.desk.ledger
    if shot.job is not None:
        return submissions_of(ledger, shot.job)[0]
    if content is None:
        return None
    with ledger.reading() as session:
        query = select(JobRow).where(JobRow.crate == str(shot.crate)).order_by(JobRow.number.desc())
        for row in session.scalars(query):
            if all(one.state == JobState.CANCELLED for one in row.submissions):
                continue
            sent = row.packing_list()
            if same_contents(sent, content) and _covers(sent, content):
                return row
    return None


def _covers(sent: PackingList, content: PackingList) -> bool:
    asked = {request.name: set(request.numbers()) for request in sent.to_render()}
    return all(set(one.numbers()) <= asked.get(one.name, set()) for one in content.to_render())


def _without_farm(shot: Shot, name: StepName) -> Standing:
    known = shot.desk.known_farms()
    remedy = "name one with --farm, or under farms in [carry] of the project file"
    timed = _timed(shot)
    commands: list[tuple[str, ...]] = []
    if not known:
        text = "no farm is named, and none is known"
        commands.append(words_of("farm", "new", "NAME"))
    else:
        text = f"no farm is named; known are {', '.join(known[:MOST_NAMED])}"
        commands += [words_of("estimate", shot.crate)] if timed else []
    if not timed:
        remedy = f"{remedy}; without test frames, add --seconds-per-frame SECONDS to estimate"
    ask = Question(text=text, commands=tuple(commands), remedy=remedy)
    return Standing(step=name, state=StepState.PERSON, said=text, questions=(ask,))


def _timed(shot: Shot) -> bool:
    try:
        read_probe(shot.crate, read_packing_list(shot.crate))
    except UnreadableInput:
        return False
    return True


def _over(cost: Cost | None, cap: tuple[Decimal, str] | None) -> str:
    """Return why this may not be sent without a person; nothing where it may."""
    if cap is None:
        return "it costs money, and no cap was said"
    amount, currency = cap
    if cost is None:
        return ""  # the farm itself holds the cap
    if cost.currency != currency:
        return f"the farm bills in {cost.currency}, the cap is in {currency}"
    if cost.likely > amount:
        return f"it is likely to cost {rounded(cost.likely)} {currency}, and the cap is {amount:.2f} {currency}"
    return ""


def _send(shot: Shot, offer: Offer | TidyCrateError | None) -> tuple[str, ...]:
    return offer.command if isinstance(offer, Offer) else words_of("send", shot.crate)
