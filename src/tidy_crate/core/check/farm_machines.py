"""C10: which of a farm's machines can render the scene."""

from __future__ import annotations

from collections.abc import Iterator

from tidy_crate.core.check.finding import Next, OnFarm, Severity, Trouble, farm_check
from tidy_crate.core.farm.fit import Fit, Need, fit, grid


def need_of(on: OnFarm) -> Need:
    """Return what the scene asks of a machine, as far as it is known."""
    memory = on.memory.least if on.memory else None
    if on.probe is not None:
        # the renderer's own needs are only known once it has run
        memory = max(memory or 0, *(frame.memory_bytes for frame in on.probe.frames))
    device = on.survey.canonical.get("device")
    seconds = None
    if on.probe is not None and on.request is not None:
        pixels = on.request.width * on.request.height
        seconds = max(f.seconds * pixels / (f.width * f.height) for f in on.probe.frames) * on.score_here
    return Need(
        memory=memory,
        gpu_memory=on.memory.least if on.memory else None,
        disk=on.bytes or None,
        device=device.lower() if isinstance(device, str) and device.lower() in ("cpu", "gpu") else None,
        frame_seconds=seconds,
        load_seconds=on.probe.load_seconds * on.score_here if on.probe else 0.0,
    )


def fits(on: OnFarm) -> tuple[Fit, ...]:
    """Every machine class of the farm, compared with the scene."""
    need = need_of(on)
    return tuple(fit(machine, need, on.card) for machine in on.card.machine)


@farm_check("machine-none-fits", Severity.ERROR, "C10")
def machine_none_fits(on: OnFarm) -> Iterator[Trouble]:
    """No machine class has enough memory: the machines are paid for and deliver nothing."""
    found = fits(on)
    if all(one.reasons for one in found):
        for one in found:
            yield Trouble(one.machine, one.reasons[0], "make the scene smaller, or take another farm")


@farm_check("machine-some-do-not-fit", Severity.NOTE, "C10", Next.NOTHING)
def machine_some_do_not_fit(on: OnFarm) -> Iterator[Trouble]:
    """Some machine classes of this farm have too little memory. Choose another one in estimate and send."""
    found = fits(on)
    able = [one.machine for one in found if not one.reasons]
    for one in found if able else ():
        if one.reasons:
            yield Trouble(one.machine, one.reasons[0], f"take {' or '.join(able)}")


@farm_check("frame-needs-tiles", Severity.ERROR, "C10")
def frame_needs_tiles(on: OnFarm) -> Iterator[Trouble]:
    """A frame takes longer than the farm's limit: it is stopped, and paid for."""
    able = [one for one in fits(on) if not one.reasons]
    if able and all(one.tiles > 1 for one in able):
        best = min(able, key=lambda one: one.tiles)
        columns, rows = grid(best.tiles)
        yield Trouble(
            best.machine,
            f"a frame takes {(best.frame_seconds or 0) / 60:.0f} minutes, {on.card.limits.minutes_per_frame:g} are "
            f"allowed: {best.tiles} tiles bring it under",
            f"render in {columns} x {rows} tiles, or on a faster machine",
        )


@farm_check("memory-not-all-known", Severity.NOTE, "C10", Next.NOTHING)
def memory_not_all_known(on: OnFarm) -> Iterator[Trouble]:
    """The size of some textures is unknown: a machine needs more memory than stated here."""
    if on.memory is not None and on.memory.unknown:
        count = len(on.memory.unknown)
        name = on.memory.unknown[0].replace("\\", "/").rpartition("/")[2]
        others = f" and {count - 1} others" if count > 1 else ""
        yield Trouble(name + others, "the header cannot be read", "leave a machine some memory to spare")
