"""The farm's terms: what it takes, and what it charges for an order."""

from __future__ import annotations

from decimal import Decimal

from tidy_crate.core.farm.protocol import FarmQuote, JobOrder
from tidy_crate.core.versions import NotComparable, Offered, parse_version
from tidy_crate.practice.farm.settings import FarmSettings, takes_path
from tidy_crate.practice.render.formats import COMPRESSIONS

MEMORY_GB = 8
PRACTICE = "practice"
PRACTICE_VERSIONS = ("1.*",)


def own_quote(order: JobOrder, settings: FarmSettings) -> FarmQuote:
    """Say what an order would cost. A synthetic farm knows its own law; a real one says what it would guess."""
    requests = {request.name: request for request in order.requests}
    tasks = sum(one.count(requests[one.request]) for one in order.tasks if one.request in requests)
    each = (settings.synthetic_seconds or settings.quoted_seconds) / settings.speed
    nodes = max(1, min(order.nodes, settings.nodes, -(-tasks // order.batch)))
    seconds = settings.startup_seconds + each * tasks / nodes
    price = settings.price_per_hour * price_factor(order, settings)
    cost = Decimal(str(round(nodes * seconds, 3))) * price / Decimal(3600)
    binding = "quote" in settings.waits_for
    return FarmQuote(cost=cost.quantize(Decimal("0.01")), currency="EUR", seconds=seconds, binding=binding)


def price_factor(order: JobOrder, settings: FarmSettings) -> Decimal:
    """The factor on every price: of the priority, and of reclaimable machines."""
    priority = settings.priority(order.priority)
    factor = Decimal(str(priority.price)) if priority is not None else Decimal(1)
    return factor * (Decimal(str(settings.reclaimable_price)) if order.reclaimable else Decimal(1))


def refusal(order: JobOrder, settings: FarmSettings) -> str | None:
    """Return why the farm does not take an order, None where it does."""
    for output, path in order.outputs.items():
        if not takes_path(settings.output_path, path):
            return f"the path of {output} is not {settings.output_path}: {path}"
    if order.machine != "standard":
        return f"there is no machine class {order.machine}"
    if order.memory_gb is not None and order.memory_gb > MEMORY_GB:
        return f"no node has {order.memory_gb:g} GiB of memory, they have {MEMORY_GB}"
    if order.gpus is not None or (order.devices and "cpu" not in order.devices):
        return "the nodes have no GPUs"
    if settings.priority(order.priority) is None:
        return f"there is no priority {order.priority}"
    if order.reclaimable and not settings.reclaims_per_hour:
        return "there are no reclaimable machines"
    offered = {PRACTICE: PRACTICE_VERSIONS} | {one.name.casefold(): (one.version,) for one in settings.programs}
    for name, version in order.programs.items():
        if not _has(offered.get(name.casefold(), ()), version):
            return f"the nodes do not have {name} {version}"
    for output, form in order.forms.items():
        if form.format not in (None, "exr") or form.compression not in (None, *COMPRESSIONS):
            return f"{output} cannot be written as {form.format or 'exr'} {form.compression or ''}".strip()
    return None


def _has(ranges: tuple[str, ...], version: str) -> bool:
    try:
        return parse_version(version) in Offered.of(ranges)
    except NotComparable:
        return False
