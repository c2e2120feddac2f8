"""A farm card to begin with, and what a card leaves open."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import date

import tomlkit

from tidy_crate.core.errors import WrongUsage
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.model import validated

NEW_CARD = """\
# A farm, as you know it. Lines that start with # are examples: keep what you can find out, and remove the rest.
# What a card does not say is not checked. `tidy-crate farm check CARD` says what is wrong with it.
name = "{name}"
title = {title}
url = {url}                          # where programs reach it; empty: quotes and checks only
currency = {currency}
rates_from = {today}           # the day that these prices are of

# [sign_in]                       # the token itself never stands here
# token_env = "TIDY_CRATE_TOKEN_MY_FARM"

[transfer]
upload_mbit = 50
download_mbit = 50
processing_seconds = 0            # what it does with an upload before it starts

# [operator]
# name = "Somebody Ltd"
# kind = "provider"               # own, partner, provider, private
# places = ["DE"]                 # countries, by ISO 3166
# agreement = true                # on confidentiality, signed

# [nodes]
# system = "linux"                # linux, windows, macos
# fonts = ["Lantern Sans"]
# unpacked_in = "/render/jobs/"   # where crates are on a node
# tiles = true                    # a frame may be shared out in tiles
# lacks = ["volumes"]             # features of scenes that no version there has

# [outputs]
# path = "relative"               # any, name, relative, share
# share = "/mnt/out"              # where path = "share"
# formats = ["exr", "png"]
# movies = false                  # it puts frames together to a movie
# from_zero = false               # it numbers frames from zero
# negative_frames = true

# [limits]
# minutes_per_frame = 120
# pixels = 33177600
# samples = 4096
# frames = 10000
# upload_gb = 50
# path_length = 240

[[machine]]
name = {machine}
nodes = {nodes}
score = 100                       # by the benchmark by which your own machine has `--score-here`
memory_gb = {memory_gb:g}
price_per_hour = {price}
billing_increment_seconds = 60
startup_seconds = 120
# minimum_seconds = 300           # least time that is billed for each machine
# arrive_seconds = 300            # over which the machines of a job come one after another
# usually_free = [2, 5, 10]       # how many one really gets: few, usual, most
# speeds = 0.1                    # by which share they differ in speed
# failures = 0.01                 # share of frames that fail on the first try
# cores = 32                      # for prices by the core
# gpu_parallel = 0.95             # share of the work that all GPUs do together; `score` is then with one
# reclaimable = {{ price = 0.4, per_hour = 0.3 }}   # may be taken back: factor on the price, how often
# gpus = 2
# gpu_memory_gb = 24
# devices = ["cpu", "gpu"]
# disk_gb = 200

# [[price]]                       # beside or in place of price_per_hour; all that apply are added up
# per = "frame"                   # machine-hour, gpu-hour, core-hour, score-hour, frame, rental
# amount = "0.02"

# [[priority]]                    # the first one listed is the usual one
# name = "first"
# price = 1.5                     # factors: on the price, the queue, the machines one gets
# wait = 0.1
# nodes = 1.0

# [[discount]]
# over = "1000.00"
# percent = "10"                  # off the part of a bill above; whole = true: off all of it

# [storage]
# per_gb_day = "0.01"
# days = 7
# free_gb = 10

# [egress]
# per_gb = "0.05"

# [credits]                       # amounts above are then credits
# price = "0.02"
# pack = 100

# [[program]]
# name = "our-renderer"
# also = ["our-renderer-pro"]     # other names that scenes use for it
# role = "renderer"               # host, renderer, plugin
# versions = ["7.1.*", ">=7.3, <8"]
# features = {{ "volume guiding" = "7.3" }}   # the first version that has each

# [[balance]]
# account = "main"
# amount = "250.00"
# on = {today}
"""


@dataclass(frozen=True)
class Basics:
    """The most important facts of a farm, with what stands on a card without them."""

    title: str = ""
    """Empty for one made from the name."""
    url: str = ""
    currency: str = "EUR"
    machine: str = "standard"
    """Name of its usual machine class."""
    nodes: int = 10
    memory_gb: float = 64.0
    price_per_hour: str = "1.00"
    """Price of a machine, in the currency."""


def new_card(name: str, today: date, basics: Basics = Basics()) -> str:
    """Return the text of a card to begin with: every key is in it, explained.

    Raises WrongUsage on an impossible name, UnreadableInput on an impossible fact.
    """
    text = NEW_CARD.format(
        name=name, today=today.isoformat(), nodes=basics.nodes, memory_gb=basics.memory_gb,
        title=json.dumps(basics.title or name.replace("-", " ").title()), url=json.dumps(basics.url),
        currency=json.dumps(basics.currency.upper()), machine=json.dumps(basics.machine),
        price=json.dumps(basics.price_per_hour),
    )  # fmt: skip
    if not name or not all(c.isascii() and (c.islower() or c.isdigit() or c in "-_") for c in name) or len(name) > 40:
        raise WrongUsage(
            "a farm's name has small letters, digits, - and _, at most 40", repr(name), "such as harbour-2"
        )
    validated(FarmCard, tomlkit.parse(text).unwrap(), "farm card", name)
    return text


def left_open(card: FarmCard) -> list[tuple[str, str]]:
    """The keys that a card does not state, and what therefore cannot be said of a scene."""
    nodes, limits = card.nodes, card.limits
    every = [
        ("program", bool(card.program), "whether it has the scene's programs, in which versions"),
        ("nodes.system", nodes.system is not None, "which file names its nodes can hold"),
        ("nodes.fonts", nodes.fonts is not None, "whether text looks the same there"),
        ("nodes.unpacked_in", bool(nodes.unpacked_in), "how long paths become there"),
        ("operator.kind", card.operator.kind is not None, "whether a confidential scene may go there"),
        ("operator.places", bool(card.operator.places), "in which country the scene would be"),
        ("outputs.formats", bool(card.outputs.formats), "which image formats it takes"),
        ("limits.minutes_per_frame", limits.minutes_per_frame is not None, "whether long frames are stopped"),
        ("limits.upload_gb", limits.upload_gb is not None, "whether the crate is too large for it"),
        ("limits.path_length", limits.path_length is not None, "whether paths become too long"),
        ("balance", bool(card.balance), "whether the money lasts, before it is asked for it"),
        *((f"machine {one.name}: disk_gb", one.disk_gb is not None, "whether the crate fits on its disk")
          for one in card.machine),
        *((f"machine {one.name}: gpu_memory_gb", not one.gpus or one.gpu_memory_gb is not None,
           "whether the scene fits on its GPUs") for one in card.machine),
    ]  # fmt: skip
    return [(key, so) for key, stated, so in every if not stated]
