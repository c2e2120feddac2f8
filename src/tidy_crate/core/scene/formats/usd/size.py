"""Number of prims that a scene composes to, estimated before it is composed: a few lines can stand for 10^12 of
them.
"""

from __future__ import annotations

import math
import random
from pathlib import Path

from pxr import Pcp, Sdf

from tidy_crate.core.errors import UnreadableInput

# far more than any machine holds
MOST_PRIMS = 1e10
DESCENTS = 24
# so many of them must find too many
AGREE = 2
DEEPEST = 1000


def refuse_bomb(root: Sdf.Layer, where: Path) -> None:
    """Raise UnreadableInput for a scene that composes to more prims than any machine holds.

    Each descent from the root takes one child at random, and estimates the number of prims from how many children
    there were on its way (D. E. Knuth, "Estimating the efficiency of backtrack programs", 1975). A single descent finds
    more than MOST_PRIMS in a tree of N leaves with a probability of at most N / MOST_PRIMS, so an ordinary scene is no
    alarm.
    """
    cache = Pcp.Cache(Pcp.LayerStackIdentifier(root), fileFormatTarget="usd", usd=True)
    chance = random.Random(1)
    found = sorted(_descent(cache, chance) for _ in range(DESCENTS))[-AGREE]
    if found > MOST_PRIMS:
        about = f"10^{math.floor(math.log10(found))}"
        what = f"the scene composes to about {about} prims, by references within references"
        raise UnreadableInput(what, where, "make the references instanceable, or take them out")


def _descent(cache: Pcp.Cache, chance: random.Random) -> float:
    total = width = 1.0
    path = Sdf.Path.absoluteRootPath
    for _ in range(DEEPEST):
        index, _errors = cache.ComputePrimIndex(path)
        if index.hasAnyPayloads and not cache.IsPayloadIncluded(path):
            cache.RequestPayloads([path], [])
            index, _errors = cache.ComputePrimIndex(path)
        names = [] if index.IsInstanceable() else index.ComputePrimChildNames()[0]
        if not names:
            break
        width *= len(names)
        total += width
        path = path.AppendChild(chance.choice(names))
    return total
