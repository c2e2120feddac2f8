"""Three invented farms with different prices and rules, to hold Lantern Quay against. None of them exists."""

from __future__ import annotations

from pathlib import Path

from tidy_crate.core.farm.card import SUFFIX

GULLWING = """\
# Has what the scene needs, where the project lets it go. Billed by the minute, with a price for being served first.
name = "gullwing"
title = "Gullwing Render"
currency = "EUR"
rates_from = {rates}
queue_seconds = [0, 240, 1200]
tax_percent = "19"

[transfer]
upload_mbit = 100
download_mbit = 200
processing_seconds = 45

[operator]
name = "Gullwing Render"
kind = "provider"
places = ["DE"]
agreement = true

[nodes]
system = "linux"
fonts = ["DejaVu Sans"]
unpacked_in = "/render/jobs/"

[outputs]
path = "relative"
formats = ["exr", "png", "tiff"]

[limits]
minutes_per_frame = 120
pixels = 33177600
upload_gb = 100
path_length = 1000

[[machine]]
name = "tern"
nodes = 40
score = 160
memory_gb = 64
disk_gb = 200
price_per_hour = "1.10"
billing_increment_seconds = 60
startup_seconds = 90
arrive_seconds = 120
usually_free = [8, 24, 40]

[machine.reclaimable]
price = 0.4
per_hour = 0.3

[[machine]]
name = "albatross"
nodes = 8
score = 420
memory_gb = 192
gpus = 2
gpu_memory_gb = 24
disk_gb = 400
price_per_hour = "4.60"
billing_increment_seconds = 60
startup_seconds = 150

[[priority]]
name = "normal"

[[priority]]
name = "first"
price = 1.5
wait = 0.1

[[discount]]
over = "100.00"
percent = "10"

[egress]
per_gb = "0.05"

[[program]]
name = "quaybuilder"
role = "host"
versions = [">=3.0, <3.3"]
features = {{ points = "3.2", "rigid body physics" = "2.8" }}

[[program]]
name = "practice"
role = "renderer"
versions = ["1.*"]

[[balance]]
amount = "180.00"
on = {rates}
"""
NINEPINS = """\
# Half the price by the hour, but every machine is paid for whole hours. An older host, and rules of its own.
name = "ninepins"
title = "Ninepins Farm"
currency = "EUR"
rates_from = {old}
queue_seconds = [60, 600, 3600]
minimum_charge = "5.00"
tax_percent = "21"

[transfer]
upload_mbit = 40
processing_seconds = 300

[operator]
name = "Ninepins"
kind = "provider"
places = ["NL"]

[nodes]
system = "linux"
tiles = false

[outputs]
path = "name"
formats = ["exr"]
from_zero = true

[limits]
minutes_per_frame = 60

[[machine]]
name = "pin"
nodes = 120
score = 110
memory_gb = 32
price_per_hour = "0.52"
billing_increment_seconds = 3600

[[program]]
name = "quaybuilder"
role = "host"
versions = ["3.0.*", "3.1.*"]
features = {{ "rigid body physics" = "2.8" }}

[[program]]
name = "practice"
role = "renderer"
versions = ["1.*"]
"""
SALTMARSH = """\
# Paid in credits for work done, and the cheapest by far: but its host is too old for what the scene uses, and it stands
# where the project does not let it go.
name = "saltmarsh"
title = "Saltmarsh Nodes"
currency = "EUR"
rates_from = {rates}
queue_seconds = [0, 60, 600]

[credits]
price = "0.012"
pack = 100

[operator]
name = "Saltmarsh"
kind = "private"
places = ["IS", "NO"]

[nodes]
system = "windows"

[outputs]
path = "relative"

[[machine]]
name = "reed"
nodes = 300
score = 90
speeds = 0.3
failures = 0.03
memory_gb = 16
startup_seconds = 20
usually_free = [20, 60, 150]

[[price]]
per = "score-hour"
amount = "19"
startup_billed = false

[[program]]
name = "quaybuilder"
role = "host"
versions = ["2.9.*", "3.0.*"]
features = {{ points = "3.2", "rigid body physics" = "2.8" }}

[[program]]
name = "practice"
role = "renderer"
versions = ["1.*"]
"""
CARDS = {"gullwing": GULLWING, "ninepins": NINEPINS, "saltmarsh": SALTMARSH}


def write_farms(folder: Path, rates: str, old: str) -> None:
    """Write the cards into `folder`. rates, old: days of prices that are fresh, and that are not (ISO 8601)."""
    folder.mkdir(parents=True, exist_ok=True)
    for name, text in CARDS.items():
        content = text.format(rates=rates, old=old)
        (folder / f"{name}{SUFFIX}").write_text(content, encoding="utf-8", newline="\n")
