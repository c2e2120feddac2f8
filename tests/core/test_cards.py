"""Farm cards, briefs and project files: what people write, read strictly and with errors that help."""

from __future__ import annotations

import json
import re
from datetime import date
from pathlib import Path

import pytest

from tidy_crate.core.context.brief import Brief, read_brief
from tidy_crate.core.errors import UnreadableInput, WrongUsage
from tidy_crate.core.farm.card import FarmCard, read_card
from tidy_crate.core.farm.fit import Need, fit, grid, tiles_for
from tidy_crate.core.farm.new_card import left_open, new_card
from tidy_crate.core.farm.overlay import inside_job, overlay
from tidy_crate.core.scene.model import Output
from tidy_crate.core.schemas import json_schema
from tidy_crate.core.toml import line_of
from tidy_crate.practice.demo.farms import write_farms
from traps import BRIEF, CARD


def card(folder: Path, text: str = CARD) -> FarmCard:
    path = folder / "gull.farm.toml"
    path.write_text(text)
    return read_card(path)


def trouble(folder: Path, text: str) -> UnreadableInput:
    with pytest.raises(UnreadableInput) as error:
        card(folder, text)
    return error.value


def line(text: str, wanted: str) -> str:
    return f", line {next(at for at, one in enumerate(text.splitlines(), 1) if one.startswith(wanted))}"


@pytest.mark.parametrize(
    ("old", "new", "what", "remedy"),
    [
        ("memory_gb = 64", "memory_mb = 64", "unknown key 'memory_mb'", "did you mean 'memory_gb'? it is in gigabytes"),
        ("memory_gb = 64", "memory_gb = 65536", "is it in megabytes?", "memory_gb is in gigabytes"),
        ("memory_gb = 64", 'memory_gb = "64 GB"', "should be a valid number", "memory_gb is in gigabytes"),
        ("[operator]", "[operators]", "unknown key 'operators'", "did you mean 'operator'?"),
        ('path = "any"', 'path = "names"', "'any', 'name', 'relative' or 'share'", None),
        ('path = "any"', 'path = "share"', "no share is named", None),
        ('versions = ["3.*"]', 'versions = ["newest"]', "'newest' is no version that can be compared", None),
        ('points = "2.0"', "points = 2.0", "should be a valid string", None),
        ('places = ["DE-BY"]', 'places = ["Bavaria"]', "should match pattern", None),
        ('currency = "EUR"', 'currency = "euros"', "should match pattern", None),
        ('name = "tern"', "", "lacks the key 'machine.0.name'", "add name = ..."),
        ("gpus = 1", 'gpus = 0\ndevices = ["gpu"]', "offers the device gpu and has no gpus", None),
        ('name = "brush"', 'name = "Quay"', "'quay' is there twice", None),
        ("score = 100", "score = 0", "greater than or equal to 0.000001", None),
    ],
)
def test_what_is_wrong_with_a_card_is_named_with_its_line(
    tmp_path: Path, old: str, new: str, what: str, remedy: str | None
) -> None:
    text = CARD.replace(old, new, 1)
    assert text != CARD
    error = trouble(tmp_path, text)
    assert what in error.what
    assert remedy is None or (error.remedy or "").startswith(remedy)
    # what concerns the whole card has no line; a missing key has that of the table it is missing in
    if "twice" not in what and new and "gpus" not in what:
        table = "[outputs]" if "no share" in what else "features" if "points" in new else new.partition("=")[0].strip()
        assert str(error.where).endswith(line(text, table)), error.where


def test_a_card_that_is_no_toml_says_where(tmp_path: Path) -> None:
    assert "line 2" in trouble(tmp_path, 'name = "gull"\nmachine = = 2\n').what
    (tmp_path / "b.farm.toml").write_bytes(b"\xff\xfe")
    with pytest.raises(UnreadableInput, match="not UTF-8"):
        read_card(tmp_path / "b.farm.toml")


def test_a_new_card_is_valid_and_with_all_its_examples_leaves_nothing_open(tmp_path: Path) -> None:
    text = new_card("harbour-2", date(2026, 11, 20))
    found = card(tmp_path, text)
    assert found.rates_from == date(2026, 11, 20) and len(left_open(found)) > 10
    whole = re.sub(r"^# (?=\[|[a-z_]+ = )", "", text, flags=re.MULTILINE)
    assert left_open(card(tmp_path, whole)) == []
    for name in ("", "Harbour", "a" * 41, "a/b", 'a"b'):
        with pytest.raises(WrongUsage):
            new_card(name, date(2026, 11, 20))


def test_the_schema_of_a_card_is_json_and_knows_every_key() -> None:
    schema = json.loads(json.dumps(json_schema("farm-card")))
    assert set(schema["properties"]) == {*FarmCard.model_fields, "schema"}


def test_the_invented_farms_are_valid_and_differ(tmp_path: Path) -> None:
    write_farms(tmp_path, "2026-11-01", "2026-01-01")
    cards = [read_card(path) for path in sorted(tmp_path.glob("*.farm.toml"))]
    assert [one.name for one in cards] == ["gullwing", "ninepins", "saltmarsh"]
    assert len({one.machine[0].price_per_hour for one in cards}) == 3 and len({one.outputs for one in cards}) == 3


def test_lines_are_found_in_tables_arrays_and_dotted_keys() -> None:
    text = "a = 1\n[b.c]\nd = 2\n[[e]]\nf = 3\n[[e]]\nf = 4\ng.h = 5\n[e.i]\nj = 6\n"
    places = [
        ("a",),
        ("b", "c", "d"),
        ("e", 0, "f"),
        ("e", 1, "f"),
        ("e", 1, "g", "h"),
        ("e", 1, "i", "j"),
        ("e", 1, "x"),
    ]
    assert [line_of(text, place) for place in places] == [1, 3, 5, 7, 8, 10, 6]
    assert line_of(text, ("nothing",)) is None


@pytest.mark.parametrize(
    ("old", "new", "what"),
    [
        ("end = 10", "end = -3", "the frames end at -3, before they start at 1"),
        ("end = 10", "end = 10\ncount = 9", "frames 1-10 are 10, not 9: both ends count"),
        ("end = 10", "end = 10\nseconds = 2", "at 24 a second last"),
        ("end = 10", "", "both a start and an end"),
        ('format = "exr"', 'format = "png"', "ends in .exr, and the format ordered is png"),
        ("{output}.####.exr", "{output}.exr", "has no frame token"),
        ("[frames]", '[[output]]\nname = "a"\n\n[[output]]\nname = "a"\n\n[frames]', "'a' is ordered twice"),
        (
            "[frames]",
            '[[output]]\nname = "a"\nformat = "png"\n\n[frames]',
            "a is ordered as png, and all outputs as exr",
        ),
        ("width = 64", "with = 64", "unknown key 'with'"),
    ],
)
def test_a_brief_that_contradicts_itself_is_refused(tmp_path: Path, old: str, new: str, what: str) -> None:
    path = tmp_path / "brief.toml"
    text = BRIEF.replace(old, new, 1)
    assert text != BRIEF
    path.write_text(text)
    with pytest.raises(UnreadableInput) as error:
        read_brief(path)
    assert what in error.value.what


def test_a_brief_may_say_as_little_as_it_likes() -> None:
    assert Brief().passes == () and Brief(naming="*_v###.####.exr").naming


def test_c10_tiles_bring_a_frame_under_the_limit() -> None:
    assert tiles_for(100, 20, 120) == 1
    assert tiles_for(1000, 20, 120) == 11  # a hundred seconds each for rendering, a tenth more for margins
    assert tiles_for(10, 200, 120) == 0
    for seconds in (130, 500, 9000):
        count = tiles_for(seconds, 20, 120)
        assert seconds * 1.1 / count + 20 <= 120 and grid(count)[0] * grid(count)[1] >= count


def test_c10_a_machine_is_held_against_memory_device_disk_and_time(tmp_path: Path) -> None:
    found = card(tmp_path)
    tern = found.machine[0]
    gib = 2**30
    assert fit(tern, Need(memory=60 * gib, gpu_memory=30 * gib, device="cpu", disk=90 * gib), found).reasons == ()
    assert "64 GiB of memory" in fit(tern, Need(memory=70 * gib), found).reasons[0]
    assert "each has 24 GiB" in fit(tern, Need(gpu_memory=30 * gib, device="gpu"), found).reasons[0]
    assert "100 GiB free" in fit(tern, Need(disk=200 * gib), found).reasons[0]
    cpu_only = tern.model_copy(update={"gpus": 0})
    assert "it offers cpu" in fit(cpu_only, Need(device="gpu"), found).reasons[0]
    # frame_seconds is on a machine of score 1, this one has 100: 3 hours become 3, and the limit is one
    slow = fit(tern, Need(frame_seconds=3 * 3600 * 100, load_seconds=0), found)
    assert slow.reasons == () and slow.tiles == 4
    none = found.model_copy(update={"nodes": found.nodes.model_copy(update={"tiles": False})})
    assert "renders no tiles" in fit(tern, Need(frame_seconds=3 * 3600 * 100), none).reasons[0]


@pytest.mark.parametrize(
    ("rule", "wanted"),
    [
        ("any", ["../a/p.####.exr", "/mnt/p.####.exr"]),
        ("name", ["p.####.exr", "p.####.exr"]),
        ("relative", ["a/p.####.exr", "p.####.exr"]),
        ("share", ["//nas/out/a/p.####.exr", "//nas/out/p.####.exr"]),
    ],
)
def test_output_paths_take_the_form_that_a_farm_wants(tmp_path: Path, rule: str, wanted: list[str]) -> None:
    found = card(tmp_path, CARD.replace('path = "any"', f'path = "{rule}"\nshare = "\\\\\\\\nas\\\\out"'))
    paths = ["../a/p.####.exr", "/mnt/p.####.exr"]
    outputs = tuple(Output(name=str(at), prim="", path=path, format="exr", passes=()) for at, path in enumerate(paths))
    assert list(overlay(found, outputs).outputs.values()) == wanted


@pytest.mark.parametrize(
    "path", ["../../x.exr", "a/../../x.exr", "/x.exr", "C:\\out\\x.exr", "\\\\nas\\x.exr", "./x.exr"]
)
def test_x4_no_output_leaves_the_folder_of_the_job(path: str) -> None:
    assert inside_job(path) == "x.exr"


def test_parts_of_a_card_can_be_looked_up_by_with_words_for_a_scheduler(tmp_path: Path) -> None:
    words = {"submit": {"partition": "night", "constraint": "rack-1"}}
    machine = {"name": "m", "nodes": 1, "score": 100, "memory_gb": 8, "price_per_hour": 1, "reclaimable": words} | words
    card = FarmCard.model_validate(
        {"name": "p", "currency": "EUR", "rates_from": "2026-11-01", "machine": [machine],
         "priority": [{"name": "usual"} | words]}
    )  # fmt: skip
    again = FarmCard.model_validate_json(card.model_dump_json())
    assert {card.machine[0], card.priority[0]} == {again.machine[0], again.priority[0]}
    with pytest.raises(ValueError, match="submit"):
        FarmCard.model_validate(card.model_dump() | {"priority": [{"name": "usual", "submit": {"qos": "a\nb"}}]})
