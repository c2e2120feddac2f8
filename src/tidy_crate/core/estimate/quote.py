"""Quotes: what a farm card says that a crate costs and takes."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from tidy_crate.core.crate.packing import PackingList
from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.estimate.farm_run import simulate
from tidy_crate.core.estimate.model import PRACTICE, Estimate, Parts, Quote, Wishes
from tidy_crate.core.estimate.probe import ProbeResult
from tidy_crate.core.estimate.timing import frame_times
from tidy_crate.core.farm.card import FarmCard, Machine
from tidy_crate.core.farm.fit import Need, fit
from tidy_crate.core.money import Cost, Range, rounded

# bytes per pixel and pass of a frame file, compressed
BYTES_PER_SAMPLE = 1.5
BATCHES = (1, 2, 3, 4, 6, 8, 12, 16, 24, 32, 48, 64)


def estimate(content: PackingList, probe: ProbeResult, cards: Iterable[FarmCard], wishes: Wishes) -> Estimate:
    """Quote a crate on every card, machine class and number of nodes. Raises Blocked when it has nothing to render."""
    content.to_render()
    quotes = [
        _quote(content, probe, card, machine, nodes, wishes)
        for card in cards
        for machine in ([card.machine_named(wishes.machine)] if wishes.machine else card.machine)
        for nodes in _node_counts(machine, wishes.nodes)
    ]
    eligible = [at for at, quote in enumerate(quotes) if quote.eligible]
    pick = min(eligible, key=lambda at: (quotes[at].cost.likely, quotes[at].seconds.likely), default=None)
    frames = sum(len(request.numbers()) for request in content.requests)
    return Estimate(quotes=tuple(quotes), pick=pick, basis=probe.basis, frames=frames)


def _node_counts(machine: Machine, wanted: int | None) -> list[int]:
    """The number asked for, or powers of two up to what the farm has."""
    if wanted is not None:
        if wanted < 1:
            raise WrongUsage("a job needs at least one node", wanted)
        return [wanted]
    counts = [2**power for power in range(20) if 2**power < machine.nodes]
    return [*counts, machine.nodes]


def _quote(
    content: PackingList, probe: ProbeResult, card: FarmCard, machine: Machine, nodes: int, wishes: Wishes
) -> Quote:
    reasons = list(_refusals(content, probe, card, machine, nodes, wishes))
    times = [frame_times(request, probe) for request in content.requests]
    faster = wishes.score_here / machine.score
    frames = np.concatenate([one.likely for one in times]) * faster
    load = probe.load_seconds * faster
    spread = max(one.spread for one in times)
    batch = wishes.batch or _best_batch(frames, load, nodes, machine)
    runs = [simulate(frames * f, load * f, batch, nodes, machine) for f in (1 - spread, 1.0, 1 + spread)]
    upload = content.bytes * 8 / (card.transfer.upload_mbit * 1e6)
    last = min(len(frames), nodes * batch) / len(frames)
    retrieval = last * _delivery_bytes(content) * 8 / (card.transfer.download_mbit * 1e6)
    around = upload + card.transfer.processing_seconds + retrieval
    low, likely, high = runs
    return Quote(
        farm=card.name,
        machine=machine.name,
        nodes=nodes,
        batch=batch,
        cost=Cost(
            currency=card.currency,
            low=rounded(low.cost),
            likely=rounded(likely.cost),
            high=rounded(high.cost),
        ),
        seconds=Range(low=around + low.seconds, likely=around + likely.seconds, high=around + high.seconds),
        parts=Parts(
            upload=upload,
            processing=card.transfer.processing_seconds,
            startup=machine.startup_seconds,
            rendering=likely.seconds - machine.startup_seconds,
            retrieval=retrieval,
        ),
        basis=probe.basis,
        eligible=not reasons,
        reasons=tuple(reasons),
    )


def _refusals(
    content: PackingList, probe: ProbeResult, card: FarmCard, machine: Machine, nodes: int, wishes: Wishes
) -> Iterable[str]:
    if probe.basis == PRACTICE and not card.practice and not wishes.accept_practice:
        yield "the timings were made with the practice renderer and say nothing about this farm's"
    if nodes > machine.nodes:
        yield f"the farm has {machine.nodes} of these machines"
    memory = max(one.memory_bytes for one in probe.frames)
    slowest = max(float(frame_times(request, probe).likely.max()) for request in content.requests)
    need = Need(
        memory=memory,
        disk=content.bytes,
        frame_seconds=slowest * wishes.score_here,
        load_seconds=probe.load_seconds * wishes.score_here,
    )
    found = fit(machine, need, card)
    yield from found.reasons
    if found.tiles > 1:
        yield f"a frame takes longer than the {card.limits.minutes_per_frame:g} minutes it may, whole"


def _best_batch(frames: np.ndarray, load: float, nodes: int, machine: Machine) -> int:
    """The batch size that is done first; of those within a hundredth of it the smallest, which risks least."""
    sizes = [size for size in BATCHES if size <= max(1, len(frames) // nodes)] or [1]
    seconds = {size: simulate(frames, load, size, nodes, machine).seconds for size in sizes}
    best = min(seconds.values())
    return min(size for size in sizes if seconds[size] <= best * 1.01)


def _delivery_bytes(content: PackingList) -> float:
    total = 0.0
    for request in content.requests:
        samples = sum(max(1, len(content.output(name).variables)) * 2.5 for name in request.outputs)
        total += len(request.numbers()) * request.width * request.height * samples * BYTES_PER_SAMPLE
    return total
