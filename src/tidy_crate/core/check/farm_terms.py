"""C11 money, C14 who sees the scene and where."""

from __future__ import annotations

from collections.abc import Iterator

from tidy_crate.core.check.finding import Next, OnFarm, Severity, Trouble, farm_check


@farm_check("balance-too-low", Severity.ERROR, "C11")
def balance_too_low(on: OnFarm) -> Iterator[Trouble]:
    """The farm stops when the balance is used up, and the remaining frames wait for a payment."""
    if on.balance is not None and on.quote is not None and on.balance < on.quote.cost.likely:
        cost = on.quote.cost
        yield Trouble(
            "balance", f"{on.balance:.2f} {cost.currency}, the job will cost about {cost.likely:.2f}", "add money first"
        )


@farm_check("balance-tight", Severity.WARNING, "C11", Next.DECIDE)
def balance_tight(on: OnFarm) -> Iterator[Trouble]:
    """The balance is used up if the frames take a little longer than the test frames."""
    if on.balance is not None and on.quote is not None and on.quote.cost.likely <= on.balance < on.quote.cost.high:
        cost = on.quote.cost
        yield Trouble(
            "balance",
            f"{on.balance:.2f} {cost.currency}, the job may cost up to {cost.high:.2f}",
            "add money, or waive",
        )


@farm_check("cost-unknown", Severity.NOTE, "C11", Next.NOTHING)
def cost_unknown(on: OnFarm) -> Iterator[Trouble]:
    """Without test frames the cost is unknown until the bill arrives."""
    if on.quote is None:
        yield Trouble("cost", "there are no test frames to compute the cost from",
                      "collect, then probe, then check the crate")  # fmt: skip


@farm_check("rates-old", Severity.WARNING, "C11", Next.DECIDE)
def rates_old(on: OnFarm) -> Iterator[Trouble]:
    """The prices on the card are old: the estimate may be wrong."""
    days = (on.today - on.card.rates_from).days
    if days > on.scene.rules.limits.rates_days:
        yield Trouble("prices", f"of {on.card.rates_from}, {days} days old", "ask for the prices of today, or waive")


@farm_check("rates-of-the-future", Severity.WARNING, "C11", Next.DECIDE)
def rates_of_the_future(on: OnFarm) -> Iterator[Trouble]:
    """The prices on the card are not valid yet, or this machine's clock is wrong."""
    if on.card.rates_from > on.today:
        yield Trouble("prices", f"they hold from {on.card.rates_from}, today is {on.today}", "use the prices of today")


@farm_check("operator-not-allowed", Severity.ERROR, "C14")
def operator_not_allowed(on: OnFarm) -> Iterator[Trouble]:
    """The project limits who may see its scenes, and this farm's operator is not on the list."""
    rule, operator = on.scene.rules.confidential, on.card.operator
    who = operator.name or on.card.title or on.card.name
    if rule.operators and operator.name.casefold() not in {name.casefold() for name in rule.operators}:
        yield Trouble(who, f"the project allows {', '.join(rule.operators)}", "take one of these")
    elif rule.kinds and operator.kind not in rule.kinds:
        kind = operator.kind or "of unknown kind"
        yield Trouble(who, f"it is {kind}, the project allows {', '.join(rule.kinds)}", "take another farm")


@farm_check("place-not-allowed", Severity.ERROR, "C14")
def place_not_allowed(on: OnFarm) -> Iterator[Trouble]:
    """The project limits the countries in which its scenes may be stored, and this farm's machines are elsewhere."""
    allowed = on.scene.rules.confidential.places
    if not allowed:
        return
    places = on.card.operator.places
    if on.card.operator.kind == "own" and not places:
        return  # one's own machines stand where one is
    outside = [place for place in places if not {place, place.partition("-")[0]} & set(allowed)]
    if outside or not places:
        where = f"in {', '.join(outside)}" if places else "in a place that is not stated"
        yield Trouble(on.card.name, f"machines stand {where}, the project allows {', '.join(allowed)}", "another farm")


@farm_check("agreement-missing", Severity.ERROR, "C14")
def agreement_missing(on: OnFarm) -> Iterator[Trouble]:
    """The project requires a signed agreement before anyone sees its scenes."""
    operator = on.card.operator
    if on.scene.rules.confidential.agreement and not operator.agreement and operator.kind != "own":
        yield Trouble(
            operator.name or on.card.name, "no agreement on confidentiality is signed", "have it signed first"
        )
