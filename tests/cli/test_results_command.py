"""Frames home as a user brings them: judged, rendered again, put together, looked at, accepted and delivered."""

from __future__ import annotations

import os
import zipfile
from contextlib import closing
from pathlib import Path

import numpy as np
import OpenEXR
import pytest
from blake3 import blake3
from PIL import Image

from conftest import Run
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.job.ledger import Ledger, products_of
from tidy_crate.core.job.standing import put_better_in_place
from tidy_crate.core.job.tables import AttemptRow, ProductRow
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.practice.farm import control
from tidy_crate.practice.farm.settings import SPOILT, FarmSettings

# a fault of every kind, each on a frame of its own
FAULTS = [{"kind": kind, "frame": 1006 + 4 * number} for number, kind in enumerate(SPOILT)]


@pytest.fixture(scope="module")
def farm(tmp_path_factory: pytest.TempPathFactory):  # type: ignore[no-untyped-def]
    folder = tmp_path_factory.mktemp("farm")
    control.start(folder, FarmSettings.model_validate({"nodes": 3, "faults": FAULTS}))
    yield folder / "practice.farm.toml"
    control.stop(folder)


@pytest.fixture
def home(tmp_path: Path) -> dict[str, str]:
    (tmp_path / "home").mkdir()
    return {"TIDY_CRATE_HOME": str(tmp_path / "home")}


def sent(run: Run, crate: Path, farm: Path, home: dict[str, str], *more: object) -> str:
    out = run("send", crate, "--farm", farm, "--yes", "--json", *more, env=home)
    assert out.code == 0, out.err
    return str(out.json["job"])


def brought_home(run: Run, job: str, into: Path, home: dict[str, str]) -> list[set[int]]:
    """Fetch, review and render again until every frame is good; the frames that each review found wanting."""
    rounds: list[set[int]] = []
    for _ in range(6):
        run("retrieve", job, "--into", into, "--follow", "--json", env=home)
        review = run("review", job, "--json", env=home)
        rounds.append({one["frame"] for one in review.json["frames"] if one["verdict"] != "good"})
        if review.code == 0:
            return rounds
        again = run("rerender", job, "--suspect", "--yes", "--json", env=home)
        assert again.code == 0, again.err
    raise AssertionError(f"it never came to its end: {rounds}")


def test_f2_a_job_with_every_fault_comes_home_right_and_goes_out_to_the_client(
    packed: tuple[SceneContext, Path], farm: Path, run: Run, home: dict[str, str], tmp_path: Path
) -> None:
    into = tmp_path / "frames"
    job = sent(run, packed[1], farm, home, "--size", "128x72", "--samples", 1, "--batch", 4)
    early = run("deliver", job, "-o", tmp_path / "early", "--json", env=home)
    assert early.code == 2 and not (tmp_path / "early").exists()
    rounds = brought_home(run, job, into, home)
    spoilt = {fault["frame"] for fault in FAULTS}
    # what is damaged or misnamed on the way is fetched or rendered again before any review
    visible = {fault["frame"] for fault in FAULTS if fault["kind"] not in ("damaged", "hostile", "lost")}
    assert visible <= rounds[0] <= spoilt and rounds[-1] == set()

    record = run("report", job, "-o", tmp_path / "quay.html", "--json", env=home).json
    assert record["counts"] == {"good": 96}
    assert {one["frame"] for one in record["again"]} >= visible and record["accuracy"] is not None
    page = (tmp_path / "quay.html").read_text()
    assert (
        "data:image/png;base64," in page
        and "96 of 96 good" in page
        and "http://" not in page.replace("http://www.w3.org", "")
    )

    done = run("deliver", job, "-o", tmp_path / "delivery", "--json", env=home)
    assert done.code == 0 and len(done.json["delivered"]) == 96
    for line in (tmp_path / "delivery/digests.txt").read_text().splitlines():
        digest, name = line.split("  ", 1)
        assert blake3((tmp_path / "delivery" / name).read_bytes()).hexdigest() == digest
    assert run("deliver", job, "-o", tmp_path / "quay.zip", env=home).code == 0
    with zipfile.ZipFile(tmp_path / "quay.zip") as archive:
        assert len(archive.namelist()) == 97 and archive.testzip() is None

    looks: tuple[tuple[str, tuple[object, ...]], ...] = (
        ("sheet.png", ()), ("passes.png", ("--passes", 1017)), ("apart.png", ("--difference", 1017, "--from", 1030)),
        ("moving.webp", ("--preview",)), ("moving.png", ("--preview", "--output", "Matte")),
        ("times.png", ("--timeline",)),
    )  # fmt: skip
    for name, words in looks:
        out = run("look", job, "-o", tmp_path / name, *words, env=home)
        assert out.code == 0, out.err
        with Image.open(tmp_path / name) as picture:
            assert getattr(picture, "n_frames", 1) == (48 if "moving" in name else 1)
    strange = run("look", job, "-o", tmp_path / "x.gif", "--preview", env=home)
    assert strange.code == 2 and ".webp" in strange.err
    assert run("stitch", job, env=home).code == 2

    # rejected by a person: not delivered, rendered again, and never accepted by a later review
    no = run("reject", job, "--frames", 1020, "--output", "Beauty", "--because", "flat light", "--json", env=home)
    assert no.code == 0 and len(no.json["products"]) == 1 and no.json["told"] == ["practice"]
    refused = run("deliver", job, "-o", tmp_path / "again", "--json", env=home)
    assert refused.code == 1 and [one["frame"] for one in refused.json["missing"]] == [1020]
    assert not (tmp_path / "again").exists()
    review = run("review", job, "--json", env=home)
    assert review.code == 1 and review.json["counts"]["bad"] == 1
    assert [one["frame"] for one in run("rerender", job, "--yes", "--json", env=home).json["tasks"]] == [1020]
    run("retrieve", job, "--into", into, "--follow", env=home)
    assert run("review", job, env=home).code == 0
    kept = next((into / "set-aside").rglob("*beauty*1020*attempt1.exr"))
    first = kept.read_bytes()
    # a bad later attempt never stands in the place of a good earlier one
    with closing(Ledger(tmp_path / "home/ledger.sqlite")) as book:
        with book.writing() as session:
            rows = products_of(job).where(AttemptRow.frame == 1020, ProductRow.output == "Beauty", ProductRow.home)
            for row in session.scalars(rows):
                row.verdict = (Verdict.GOOD if row.attempt.number == 1 else Verdict.BAD).value
                row.decision = None
        assert put_better_in_place(book, job) == 1 and put_better_in_place(book, job) == 0
    assert (into / "Beauty/lantern_quay_beauty.1020.exr").read_bytes() == first and not kept.exists()


def test_f5_what_a_person_accepts_is_not_suspect_again(
    packed: tuple[SceneContext, Path], farm: Path, run: Run, home: dict[str, str], tmp_path: Path
) -> None:
    words = ("--size", "64x36", "--samples", 1, "--frames", "1001-1012", "--batch", 3)
    job = sent(run, packed[1], farm, home, *words)
    run("retrieve", job, "--into", tmp_path / "one", "--follow", env=home)
    review = run("review", job, "--explain", 1004, "--json", env=home)
    poor = {(one["frame"], one["output"]) for one in review.json["frames"] if one["verdict"] != "good"}
    assert poor == {(1006, "Beauty"), (1010, "Beauty")}
    assert review.json["explained"][0]["figures"]
    nothing = run("accept", job, env=home)
    assert nothing.code == 2 and "--frames" in nothing.err
    if os.name == "posix":
        asked = run.at_terminal("n\ny\n", "accept", job, "--verdict", "bad", "--ask", "--because", "seen", env=home)
        assert asked.code == 0 and "1 frame of" in asked.out, asked.err
        assert "Beauty 1006 is bad: it is black all over" in asked.err and "Accept it?" in asked.err
        assert run("reject", job, "--frames", "1010", "--because", "no", env=home).code == 0
    done = run("accept", job, "--frames", "1006", "--because", "the lamp goes out", "--json", env=home)
    assert done.code == 0 and done.json["decision"] == "good"
    assert len(done.json["products"]) == 2
    after = {one["frame"]: one for one in run("review", job, "--json", env=home).json["frames"]}
    assert after[1006]["verdict"] == "good" and "the lamp goes out" in after[1006]["reasons"][0]
    # the other one is rendered again at a farm that is named, as a part of the same job
    again = run("rerender", job, "--farm", farm, "--machine", "standard", "--yes", "--json", env=home)
    assert again.code == 0 and [one["frame"] for one in again.json["tasks"]] == [1010], again.err
    assert run("retrieve", job, "--into", tmp_path / "one", "--follow", env=home).code == 0
    parts = run("report", job, "-o", tmp_path / "r.html", "--json", env=home).json["submissions"]
    assert [one["tasks"] for one in parts] == [12, 1]
    # a later job of the same crate has the same frame black, and no one asks again
    later = sent(run, packed[1], farm, home, *words, "--again")
    run("retrieve", later, "--into", tmp_path / "two", "--follow", env=home)
    found = {
        (one["frame"], one["output"]): one["verdict"] for one in run("review", later, "--json", env=home).json["frames"]
    }
    assert found[1006, "Beauty"] == found[1006, "Matte"] == "good" and found[1010, "Beauty"] == "bad"


def test_f6_a_large_still_comes_home_from_tiles_and_one_from_sample_shares(
    packed: tuple[SceneContext, Path], farm: Path, run: Run, home: dict[str, str], tmp_path: Path
) -> None:
    whole = ("--frames", "1001", "--size", "192x108", "--samples", 4, "--output", "Beauty")
    pictures = {}
    for name, words in {"whole": (), "tiles": ("--tiles", "3x2"), "shares": ("--sample-shares", 4)}.items():
        job = sent(run, packed[1], farm, home, *whole, *words, "--again")
        into = tmp_path / name
        run("retrieve", job, "--into", into, "--follow", env=home)
        assert run("review", job, env=home).code == 0
        if words:
            early = run("deliver", job, "-o", tmp_path / f"out-{name}", "--json", env=home)
            assert early.code == 1 and "stitch" in early.json["missing"][0]["why"]
            out = run("stitch", job, "--json", env=home)
            assert out.code == 0 and len(out.json["stitched"]) == 1, out.err
            # what is up to date is not made again
            made = Path(out.json["stitched"][0]["path"])
            before = made.stat().st_mtime_ns
            assert run("stitch", job, env=home).code == 0 and made.stat().st_mtime_ns == before
        assert run("deliver", job, "-o", tmp_path / f"out-{name}", env=home).code == 0
        (path,) = (tmp_path / f"out-{name}").rglob("*.exr")
        pictures[name] = OpenEXR.File(str(path), separate_channels=True)
    channels = {
        name: {key: one.pixels.astype(np.float64) for key, one in file.channels().items()}
        for name, file in pictures.items()
    }
    for name in ("tiles", "shares"):
        assert channels[name].keys() == channels["whole"].keys()
        for key, pixels in channels["whole"].items():
            # the practice renderer draws the same samples on every node
            apart = np.abs(channels[name][key] - pixels)
            if name == "tiles" or key in ("R", "G", "B", "A"):
                assert float(np.median(apart)) <= 2e-3, (name, key)
    header = pictures["tiles"].header()
    assert [list(map(int, corner)) for corner in header["dataWindow"]] == [[0, 0], [191, 107]]
    # ids are those of one sample, never a mean of two
    ids = set(np.unique(channels["shares"]["objectId.id"]))
    assert ids <= set(np.unique(channels["whole"]["objectId.id"])) | {0.0} or all(one == int(one) for one in ids)
