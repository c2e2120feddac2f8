"""Farms that are a place for files: a folder, a real OpenSSH server, and an S3 service on this machine."""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from hashlib import sha256
from itertools import accumulate
from pathlib import Path, PurePosixPath

import pytest
from blake3 import blake3
from hypothesis import given
from hypothesis import strategies as st

from conftest import tree
from farms import TODAY, prepared
from servers import SSHD, s3_server, ssh_server
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.crate.archive import unpack_archive
from tidy_crate.core.crate.packing import read_packing_list
from tidy_crate.core.errors import Blocked, FarmBusy, FarmError
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.drop.link import DropFarm
from tidy_crate.core.farm.links.drop.parts import LEAST, as_list, parts_of
from tidy_crate.core.farm.links.drop.place import Folder, Place, open_place
from tidy_crate.core.farm.links.interface import Moved
from tidy_crate.core.job.ledger import Ledger
from tidy_crate.core.job.prepare import Sending
from tidy_crate.core.job.rerender import rerender, to_rerender
from tidy_crate.core.job.retrieve import retrieve
from tidy_crate.core.job.send import Sent, send
from tidy_crate.core.job.track import cancel, release, track
from tidy_crate.core.review.record import record
from tidy_crate.core.review.run import review_job
from tidy_crate.core.transfer.chunks import Chunk, chunks
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.core.work.task import Task
from tidy_crate.practice.farm.node import spoil
from tidy_crate.practice.render.renderer import Order, render

TOKEN = "secret-that-nobody-prints"


def card_for(url: str, **more: object) -> FarmCard:
    return FarmCard.model_validate(
        {"name": "attic", "url": url, "currency": "EUR", "rates_from": TODAY, "practice": True,
         "operator": {"kind": "own"},
         "machine": [{"name": "m", "nodes": 4, "score": 100, "memory_gb": 8, "price_per_hour": 6}]} | more
    )  # fmt: skip


@dataclass
class Somewhere:
    """A place, and the folder that a person at the farm sees; None where there is none."""

    card: FarmCard
    token: Callable[[], str]
    folder: Path | None

    def open(self) -> Place:
        return open_place(self.card, self.token)


@pytest.fixture(scope="session")
def ssh(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[int, Path]]:
    """A real OpenSSH server on loopback, with its own keys and configuration."""
    if SSHD is None:
        pytest.skip("OpenSSH's server is not installed")
    folder = tmp_path_factory.mktemp("ssh")
    with ssh_server(folder) as port:
        yield port, folder


@pytest.fixture(scope="session")
def s3() -> Iterator[str]:
    """An S3 service on loopback."""
    pytest.importorskip("moto")
    with s3_server() as url:
        yield url


def sftp_place(ssh: tuple[int, Path], folder: Path, **more: object) -> Somewhere:
    import getpass

    port, keys = ssh
    access = {"user": getpass.getuser(), "key_file": str(keys / "user"), "known_hosts": str(keys / "known_hosts")}
    card = card_for(f"sftp://127.0.0.1:{port}{folder}", place=access | more)
    return Somewhere(card, lambda: TOKEN, folder)


@pytest.fixture(params=["folder", "sftp", "s3"])
def somewhere(request: pytest.FixtureRequest, tmp_path: Path) -> Somewhere:
    folder = tmp_path / "place"
    if request.param == "s3":
        endpoint = request.getfixturevalue("s3")
        card = card_for("s3://frames/quay", place={"endpoint": endpoint, "region": "us-east-1"})
        place = Somewhere(card, lambda: f"ACCESS:{TOKEN}", None)
        fs = place.open().fs
        if not fs.exists("frames"):
            fs.call_s3("create_bucket", Bucket="frames")
        if fs.exists("frames/quay"):
            fs.rm("frames/quay", recursive=True)
        return place
    folder.mkdir()
    if request.param == "sftp":
        return sftp_place(request.getfixturevalue("ssh"), folder)
    return Somewhere(card_for(folder.as_uri()), lambda: TOKEN, folder)


@pytest.fixture
def sending(packed: tuple[SceneContext, Path]) -> Sending:
    return prepared(packed[1], card_for("file:///x"), frames="1001-1003", size="64x36", batch=2)


@pytest.fixture
def ledger(tmp_path: Path) -> Ledger:
    return Ledger(tmp_path / "ledger.sqlite")


def frame(content: bytes = b"") -> bytes:
    """A small picture that opens."""
    import io

    from PIL import Image

    out = io.BytesIO()
    Image.new("RGB", (64, 36), (int.from_bytes(blake3(content).digest()[:1]), 90, 120)).save(out, "PNG")
    return out.getvalue()


def put(place: Place, job: str, name: str, data: bytes, folder: str = "frames") -> None:
    place.write(f"jobs/{job}/{folder}/{name}", data)


def farm_of(somewhere: Somewhere) -> DropFarm:
    return DropFarm(somewhere.card, somewhere.open, sleep=lambda _: None)


NAMES = [("Beauty", "lantern_quay_beauty"), ("Matte", "lantern_quay_matte")]


def test_u7_a_job_goes_to_a_place_and_its_frames_come_home_as_they_appear(
    somewhere: Somewhere, sending: Sending, ledger: Ledger, tmp_path: Path
) -> None:
    farm = farm_of(somewhere)
    link = farm.link()
    sent = send(sending, somewhere.card, Path("attic.farm.toml"), link, ledger)
    assert sent.submissions[0].uploaded_bytes > 0
    place = somewhere.open()
    found = {one.path for one in place.find("")}
    (archive,) = [name for name in found if name.endswith(".zip")]
    (order,) = [name for name in found if name.endswith("order.json")]
    job = order.split("/")[1]
    assert {f"jobs/{job}/job-sheet.md", f"jobs/{job}/job-sheet.html", f"{archive}.blake3"} <= found

    # what a person there does: fetch, compare, unpack
    local = tmp_path / "there.zip"
    place.fetch(archive, local, 0, place.size(archive) or 0, lambda _: None)
    line = (place.read(f"{archive}.blake3") or b"").decode()
    assert line.split() == [blake3(local.read_bytes()).hexdigest(), archive.rpartition("/")[2]]
    other = (place.read(f"{archive}.sha256") or b"").decode()
    assert other.split() == [sha256(local.read_bytes()).hexdigest(), archive.rpartition("/")[2]]
    sheet = (place.read(f"jobs/{job}/job-sheet.md") or b"").decode()
    for words in (other.split()[0], "25 frames a second", "tidy_crate.practice.render", "ends in `.part`", "Camera"):
        assert words in sheet, sheet
    assert unpack_archive(local, tmp_path / "unpacked") == sending.delivered
    sheet = (place.read(f"jobs/{job}/job-sheet.md") or b"").decode()
    for word in ("1001-1003", "64 x 36", archive, line.split()[0], f"jobs/{job}/frames", "Beauty/lantern\\_quay"[:6]):
        assert word in sheet

    opened = lambda _: link  # noqa: E731
    assert track(ledger, sent.job, opened).state == "waiting"
    for output, stem in NAMES:
        put(place, job, f"{output}/{stem}.1001.exr", (packed_frame()))
    put(place, job, "Beauty/lantern_quay_beauty.1002.exr", packed_frame()[: len(packed_frame()) // 2])
    put(place, job, "Matte/lantern_quay_matte.1002.exr", packed_frame())
    put(place, job, "Beauty/.lantern_quay_beauty.1003.exr.part", b"half")
    put(place, job, "notes.txt", b"all well")
    into = tmp_path / "frames"
    came = retrieve(ledger, sent.job, into, opened)
    assert {(one.frame, one.output) for one in came.retrieved} == {(1001, "Beauty"), (1001, "Matte"), (1002, "Matte")}
    assert [(one.frame, one.output) for one in came.damaged] == [(1002, "Beauty")]
    assert (into / "Beauty/lantern_quay_beauty.1001.exr").read_bytes() == packed_frame()
    view = track(ledger, sent.job, opened)
    assert view.state == "rendering" and view.done == 2

    # the farm sees to it, and the rest comes
    put(place, job, "Beauty/lantern_quay_beauty.1002.exr", packed_frame())
    for output, stem in NAMES:
        put(place, job, f"elsewhere/{output}/{stem}.1003.exr", packed_frame())
    came = retrieve(ledger, sent.job, into, opened)
    assert came.at_home == 6 and came.ended and not came.damaged
    # sent again, nothing goes over the line twice
    again = send(sending, somewhere.card, Path("x"), farm_of(somewhere).link(), ledger, again=True)
    assert again.submissions[0].uploaded_bytes == 0


_FRAME: dict[str, bytes] = {}


def packed_frame() -> bytes:
    """An EXR of 64 x 36 with a Beauty's channels."""
    if not _FRAME:
        import tempfile

        import numpy as np
        import OpenEXR

        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "x.exr")
            shade = np.linspace(0.1, 1, 64 * 36, dtype=np.float16).reshape(36, 64)
            OpenEXR.File({"type": OpenEXR.scanlineimage}, dict.fromkeys("RGBA", shade)).write(str(path))
            _FRAME["data"] = path.read_bytes()
    return _FRAME["data"]


def test_f7_frames_numbered_from_zero_come_home_on_their_own_numbers_also_when_asked_for_again(
    packed: tuple[SceneContext, Path], ledger: Ledger, tmp_path: Path
) -> None:
    (tmp_path / "place").mkdir()
    card = card_for((tmp_path / "place").as_uri(), outputs={"from_zero": True})
    somewhere = Somewhere(card, lambda: TOKEN, tmp_path / "place")
    sending = prepared(packed[1], card, frames="1010-1012", size="64x36")
    link = farm_of(somewhere).link()
    sent = send(sending, card, Path("x"), link, ledger)
    place = somewhere.open()
    (job,) = [one.path.split("/")[1] for one in place.find("") if one.path.endswith("order.json")]
    for number in range(3):
        for output, stem in NAMES:
            put(place, job, f"{output}/{stem}.{number:04d}.exr", packed_frame())
    opened = lambda _: link  # noqa: E731
    came = retrieve(ledger, sent.job, tmp_path / "frames", opened)
    assert sorted(path.name for path in (tmp_path / "frames/Beauty").iterdir()) == [
        f"lantern_quay_beauty.{frame}.exr" for frame in (1010, 1011, 1012)
    ]
    assert came.ended
    (tmp_path / "frames/Beauty/lantern_quay_beauty.1011.exr").write_bytes(b"")
    review_job(ledger, sent.job)
    wanted = to_rerender(ledger, sent.job)
    assert 1011 in {task.frame for task in wanted.tasks}
    rerender(ledger, wanted.model_copy(update={"tasks": tuple(t for t in wanted.tasks if t.frame == 1011)}), opened)
    assert track(ledger, sent.job, opened).state == "rendering"
    for output, stem in NAMES:
        put(place, job, f"{output}/{stem}.0001.exr", packed_frame(), "frames-again-1")
    came = retrieve(ledger, sent.job, tmp_path / "frames", opened)
    assert {(one.frame, one.attempt) for one in came.retrieved} == {(1011, 2)} and came.ended
    assert (tmp_path / "frames/Beauty/lantern_quay_beauty.1011.exr").read_bytes() == packed_frame()


def bundled(kind: str, files: dict[str, bytes]) -> bytes:
    """An archive of files, with a link and a name that leads elsewhere among them."""
    import io
    import tarfile
    import zipfile

    import zstandard

    out = io.BytesIO()
    if kind == "zip":
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
            for name, data in files.items():
                archive.writestr(name, data)
        return out.getvalue()
    with tarfile.open(fileobj=out, mode="w:gz" if kind == "tar.gz" else "w") as tar:
        for name, data in files.items():
            info = tarfile.TarInfo(name)
            info.size = len(data)
            tar.addfile(info, io.BytesIO(data))
        link = tarfile.TarInfo("Beauty/lantern_quay_beauty.1001.exr")
        link.type, link.linkname = tarfile.SYMTYPE, "/etc/passwd"
        tar.addfile(link)
    return zstandard.compress(out.getvalue()) if kind == "tar.zst" else out.getvalue()


def sent_to_a_folder(sending: Sending, ledger: Ledger, tmp_path: Path) -> tuple[DropFarm, Place, str, Sent]:
    """Send a job to a folder. Return the farm, the place, the job's name there, and what was sent."""
    (tmp_path / "place").mkdir()
    card = card_for((tmp_path / "place").as_uri())
    farm = farm_of(Somewhere(card, lambda: TOKEN, tmp_path / "place"))
    sent = send(sending, card, Path("x"), farm.link(), ledger)
    place = open_place(card, lambda: TOKEN)
    (job,) = [one.path.split("/")[1] for one in place.find("") if one.path.endswith("order.json")]
    return farm, place, job, sent


@pytest.mark.parametrize("kind", ["zip", "tar.gz", "tar.zst"])
def test_f7_an_archive_at_the_end_is_unpacked_safely(
    kind: str, sending: Sending, ledger: Ledger, tmp_path: Path
) -> None:
    farm, place, job, sent = sent_to_a_folder(sending, ledger, tmp_path)
    files = {f"{output}/{stem}.{n}.exr": packed_frame() for output, stem in NAMES for n in (1001, 1002, 1003)}
    strange = {"../../escaped.exr": b"x", "notes.txt": b"thanks", "/etc/evil": b"x"}
    opened = lambda _: farm.link()  # noqa: E731
    put(place, job, f"all.{kind}", bundled(kind, files | strange)[:400])
    view = track(ledger, sent.job, opened)
    assert view.done == 0 and "cannot be opened" in view.why[0]
    put(place, job, f"all.{kind}", bundled(kind, files | strange))
    came = retrieve(ledger, sent.job, tmp_path / "frames", opened)
    assert came.at_home == 6 and came.ended and not track(ledger, sent.job, opened).why
    assert (tmp_path / "frames/Beauty/lantern_quay_beauty.1001.exr").read_bytes() == packed_frame()
    assert not list(tmp_path.rglob("escaped*")) and not Path("/etc/evil").exists()
    farm.close()


def endless_name() -> bytes:
    """A tar whose first entry has a name of 64 MiB: read into memory at once, were there no limit."""
    import io
    import tarfile

    import zstandard

    out = io.BytesIO()
    info = tarfile.TarInfo("././@LongLink")
    info.type, info.size = tarfile.GNUTYPE_LONGNAME, 64 << 20
    out.write(info.tobuf(tarfile.GNU_FORMAT) + b"a" * info.size)
    with tarfile.open(fileobj=out, mode="w") as tar:
        tar.addfile(tarfile.TarInfo("x"))
    return zstandard.compress(out.getvalue())


def twice(name: str) -> bytes:
    import io
    import tarfile

    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w:gz") as tar:
        for _ in range(2):
            info = tarfile.TarInfo(name)
            info.size = len(packed_frame())
            tar.addfile(info, io.BytesIO(packed_frame()))
    return out.getvalue()


HUGE = {"Beauty/lantern_quay_beauty.1002.exr": bytes(40 << 20)}
BOMBS: dict[str, tuple[Callable[[], bytes], str]] = {
    "all.zip": (lambda: bundled("zip", HUGE), "more than a picture of its size takes"),
    "all.tar.gz": (lambda: bundled("tar.gz", HUGE), "more than a picture of its size takes"),
    "all.tar.zst": (lambda: bundled("tar.zst", HUGE), "more than a picture of its size takes"),
    "name.tar.zst": (endless_name, "a name in it has no end"),
    "twice.tar.gz": (lambda: twice("Beauty/lantern_quay_beauty.1002.exr"), "more than once"),
}


@pytest.mark.parametrize("name", BOMBS)
def test_x4_an_archive_that_unfolds_without_end_is_named_and_the_frames_at_home_stay(
    name: str, sending: Sending, ledger: Ledger, tmp_path: Path
) -> None:
    farm, place, job, sent = sent_to_a_folder(sending, ledger, tmp_path)
    for output, stem in NAMES:
        put(place, job, f"{output}/{stem}.1001.exr", packed_frame())
    opened = lambda _: farm.link()  # noqa: E731
    assert retrieve(ledger, sent.job, tmp_path / "frames", opened).at_home == 2
    before = tree(tmp_path / "frames")
    bomb, why = BOMBS[name]
    put(place, job, name, bomb())
    came = retrieve(ledger, sent.job, tmp_path / "frames", opened)
    assert came.at_home == 2 and tree(tmp_path / "frames") == before
    assert why in track(ledger, sent.job, opened).why[0]
    # the harmless neighbour: a large file that nothing expects is passed over
    files = {f"{output}/{stem}.{n}.exr": packed_frame() for output, stem in NAMES for n in (1002, 1003)}
    put(place, job, name, bundled(name.partition(".")[2], files | {"preview.mov": bytes(40 << 20)}))
    assert retrieve(ledger, sent.job, tmp_path / "frames", opened).at_home == 6
    farm.close()


@pytest.mark.skipif(not hasattr(os, "mkfifo"), reason="there are no pipes here")
def test_x4_a_pipe_at_a_place_hangs_nothing(
    somewhere: Somewhere, sending: Sending, ledger: Ledger, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    # an SFTP server that opens a pipe says nothing any more: the usual patience is half a minute
    monkeypatch.setattr("tidy_crate.core.farm.links.drop.sftp.SECONDS", 3.0)
    if somewhere.folder is None:
        pytest.skip("a bucket has no pipes")
    farm = farm_of(somewhere)
    sent = send(sending, somewhere.card, Path("x"), farm.link(), ledger)
    frames = next((somewhere.folder / "jobs").iterdir()) / "frames" / "Beauty"
    frames.mkdir(parents=True, exist_ok=True)
    os.mkfifo(frames / "lantern_quay_beauty.1001.exr")
    os.mkfifo(frames / "lantern_quay_beauty.1002.zip")
    (frames / "lantern_quay_beauty.1003.exr").symlink_to(frames / "lantern_quay_beauty.1001.exr")
    began = time.monotonic()
    came = retrieve(ledger, sent.job, tmp_path / "frames", lambda _: farm.link())
    assert came.at_home == 0 and time.monotonic() - began < 20
    # one that takes the place of a file between two looks ends in one sentence
    with pytest.raises(FarmError, match=r"pipe|not a file|timed out|cannot be fetched") as told:
        somewhere.open().fetch(
            frames.relative_to(somewhere.folder).as_posix() + "/lantern_quay_beauty.1001.exr",
            tmp_path / "x", 0, 10, lambda _: None,
        )  # fmt: skip
    assert "\n" not in str(told.value)
    farm.close()


def test_f1_a_file_of_another_name_is_named_with_the_one_that_it_may_be_and_capitals_are_forgiven(
    sending: Sending, ledger: Ledger, tmp_path: Path
) -> None:
    farm, place, job, sent = sent_to_a_folder(sending, ledger, tmp_path)
    opened = lambda _: farm.link()  # noqa: E731
    put(place, job, "Beauty/lantern_quay_beauty.1001.EXR", packed_frame())
    put(place, job, "Matte/lantern_quay_matte.1001.exr", packed_frame())
    put(place, job, "Beauty/lantern_quay_beuaty_1002.exr", packed_frame())
    put(place, job, "Beauty/notes.txt", b"thanks")
    view = track(ledger, sent.job, opened)
    assert view.done == 1
    assert "lantern_quay_beuaty_1002.exr is not expected: is it lantern_quay_beauty.1002.exr?" in view.why[0]
    assert "notes.txt is not expected" in view.why[0] and "notes.txt is not expected:" not in view.why[0]
    assert retrieve(ledger, sent.job, tmp_path / "frames", opened).at_home == 2
    assert (tmp_path / "frames/Beauty/lantern_quay_beauty.1001.exr").is_file()
    farm.close()


@pytest.mark.parametrize("size", [1, 8 << 20, 10_000 * (8 << 20), 10_000 * (8 << 20) + 1, 100 << 30, 1 << 40, 5 << 40])
def test_u2_an_archive_of_any_size_has_no_more_parts_than_a_bucket_takes(size: int) -> None:
    pytest.importorskip("s3fs")
    from tidy_crate.core.farm.links.drop.s3 import MOST_PARTS, PART, part_size

    each = part_size(size)
    assert -(-size // each) <= MOST_PARTS and each >= PART and each <= 5 << 30
    assert each == PART or size > MOST_PARTS * PART


def test_t8_a_rented_machine_that_still_bills_is_called_out_until_it_is_released(
    sending: Sending, ledger: Ledger, tmp_path: Path
) -> None:
    (tmp_path / "place").mkdir()
    card = card_for((tmp_path / "place").as_uri(), place={"rented": True})
    link = farm_of(Somewhere(card, lambda: TOKEN, tmp_path / "place")).link()
    sent = send(sending, card, Path("x"), link, ledger)
    opened = lambda _: link  # noqa: E731
    assert track(ledger, sent.job, opened).billing == ("attic",)
    view = cancel(ledger, sent.job, opened)
    assert view.state == "cancelled" and view.billing == ("attic",)
    view = release(ledger, sent.job, opened)
    assert view.billing == () and view.cost is not None and view.cost >= 0
    assert list((tmp_path / "place").rglob("CANCELLED.txt"))


def test_u2_a_broken_upload_goes_on_where_it_was(somewhere: Somewhere, tmp_path: Path) -> None:
    local = tmp_path / "large.bin"
    local.write_bytes(os.urandom(11 << 20))
    digest = blake3(local.read_bytes()).hexdigest()

    class Broken(Exception):
        pass

    sent = 0

    def breaks(count: int) -> None:
        nonlocal sent
        sent += count
        if sent >= 9 << 20:
            raise Broken

    with pytest.raises(Broken):
        somewhere.open().send(local, "crates/large.bin", digest, breaks)
    again: list[int] = []
    place = somewhere.open()
    place.send(local, "crates/large.bin", digest, again.append)
    assert sum(again) == 11 << 20 and again[0] >= 8 << 20
    back = tmp_path / "back.bin"
    place.fetch("crates/large.bin", back, 0, 11 << 20, lambda _: None)
    assert back.read_bytes() == local.read_bytes()
    back.write_bytes(back.read_bytes()[:5_000_000])
    place.fetch("crates/large.bin", back, 5_000_000, 11 << 20, lambda _: None)
    assert back.read_bytes() == local.read_bytes()
    assert [one.path for one in place.find("crates") if not one.path.endswith(".pieces")] == ["large.bin"]


def test_u2_an_archive_that_changed_goes_to_a_bucket_as_what_changed(s3: str, tmp_path: Path) -> None:
    card = card_for("s3://frames/changed", place={"endpoint": s3, "region": "us-east-1"})
    place = Somewhere(card, lambda: f"ACCESS:{TOKEN}", None).open()
    if not place.fs.exists("frames"):
        place.fs.call_s3("create_bucket", Bucket="frames")
    data = os.urandom(48 << 20)
    versions = {
        "quay-1": data,
        # one byte more in the middle, and some others at the end
        "quay-2": data[: 20 << 20] + b"x" + data[20 << 20 : -1000] + os.urandom(1000),
        "quay-3": data[: 30 << 20],
    }
    sent = {}
    for name, content in versions.items():
        (tmp_path / name).write_bytes(content)
        digest = blake3(content).hexdigest()
        kept = place.send(tmp_path / name, f"crates/{name}.zip", digest, lambda _: None)
        sent[name] = len(content) - kept
        assert place.fs.cat_file(place.at(f"crates/{name}.zip")) == content
    assert sent["quay-1"] == 48 << 20 and sent["quay-2"] <= 13 << 20 and sent["quay-3"] <= 13 << 20
    # a list that lies costs the bytes, and nothing else
    true = chunks(memoryview(data))
    lies = [Chunk(one.offset, one.bytes, true[-1 - number].blake3) for number, one in enumerate(true)]
    place.fs.pipe_file(place.at("crates/quay-4.zip.pieces"), as_list(lies))
    place.fs.pipe_file(place.at("crates/quay-4.zip"), data)
    place.send(tmp_path / "quay-1", "crates/quay-5.zip", "d" * 64, lambda _: None)
    assert place.fs.cat_file(place.at("crates/quay-5.zip")) == data


@given(
    st.lists(st.tuples(st.integers(0, 5), st.integers(1, 9 << 20)), min_size=1, max_size=12),
    st.lists(st.tuples(st.integers(0, 5), st.integers(1, 9 << 20)), max_size=12),
)
def test_u2_the_parts_of_an_object_are_its_bytes_and_as_large_as_a_bucket_wants(
    new: list[tuple[int, int]], old: list[tuple[int, int]]
) -> None:
    # a chunk of some contents has always the same size
    sizes = dict([*new, *old])

    def laid(names: list[int]) -> list[Chunk]:
        offsets = [0, *accumulate(sizes[name] for name in names)]
        return [Chunk(at, sizes[name], str(name)) for at, name in zip(offsets, names, strict=False)]

    ours, there = laid([name for name, _ in new]), laid([name for name, _ in old])

    def at(every: list[Chunk], position: int) -> tuple[str, int]:
        one = next(one for one in every if one.offset <= position < one.offset + one.bytes)
        return one.blake3, position - one.offset

    parts, end = parts_of(ours, there, 10 << 20), 0
    for part in parts:
        assert part.offset == end and (part.bytes >= LEAST or part is parts[-1])
        for position in (0, part.bytes // 2, part.bytes - 1) if part.source is not None else ():
            assert at(ours, part.offset + position) == at(there, (part.source or 0) + position)
        end += part.bytes
    assert end == sum(one.bytes for one in ours)


def test_a_host_key_that_changed_or_is_unknown_is_told_and_nothing_is_sent(
    ssh: tuple[int, Path], tmp_path: Path
) -> None:
    for file, words in (("changed_hosts", "has changed"), ("empty", "is not known")):
        place = sftp_place(ssh, tmp_path, known_hosts=str(ssh[1] / file))
        with pytest.raises(FarmError, match=words) as caught:
            place.open()
        assert TOKEN not in str(caught.value)
    with pytest.raises(FarmError, match="does not let this user in"):
        sftp_place(ssh, tmp_path, key_file=str(ssh[1] / "other")).open()
    with pytest.raises(FarmError, match="no such folder"):
        sftp_place(ssh, tmp_path / "gone").open().check()


def test_files_come_from_a_server_that_allows_one_channel_only(tmp_path: Path) -> None:
    if SSHD is None:
        pytest.skip("OpenSSH's server is not installed")
    keys, folder = tmp_path / "keys", tmp_path / "place"
    keys.mkdir()
    folder.mkdir()
    data = [os.urandom(300_000) for _ in range(4)]
    for number, one in enumerate(data):
        (folder / f"{number}").write_bytes(one)
    with ssh_server(keys, "MaxSessions 1\n") as port:
        place = sftp_place((port, keys), folder).open()

        def fetch(number: int) -> bytes:
            place.fetch(f"{number}", tmp_path / f"{number}", 0, 300_000, lambda _: None)
            return (tmp_path / f"{number}").read_bytes()

        with ThreadPoolExecutor(4) as pool:
            assert list(pool.map(fetch, range(4))) == data
        place.close()


def test_a_bucket_that_is_not_there_and_a_token_without_a_secret_are_told(s3: str) -> None:
    card = card_for("s3://gone/quay", place={"endpoint": s3, "region": "us-east-1"})
    with pytest.raises(FarmError, match="no such bucket"):
        open_place(card, lambda: f"A:{TOKEN}").check()
    with pytest.raises(FarmError, match="ACCESS_KEY:SECRET_KEY"):
        open_place(card, lambda: "A")
    nobody = card_for("s3://gone/quay", place={"endpoint": "http://127.0.0.1:9", "region": "us-east-1"})
    with pytest.raises(FarmError):
        open_place(nobody, lambda: f"A:{TOKEN}").check()


class Full(Folder):
    """A folder whose disk is full, or read-only."""

    code = 28

    def _send(self, local: Path, target: str, digest: str, moved: Callable[[int], None]) -> None:
        raise OSError(self.code, os.strerror(self.code))


@pytest.mark.parametrize(("code", "words"), [(28, "it is full"), (30, "read-only"), (13, "permission denied")])
def test_a_full_or_read_only_place_is_one_clear_error(code: int, words: str, sending: Sending, tmp_path: Path) -> None:
    card = card_for(tmp_path.as_uri())
    plain = open_place(card, lambda: TOKEN)

    def full() -> Place:
        found = Full(plain.fs, plain.root, plain.farm, plain.url)
        found.code = code
        return found

    farm = DropFarm(card, full)
    with pytest.raises(FarmError, match=words) as caught:
        farm.deliver(sending.crate, sending.delivered, lambda _: None)
    assert not isinstance(caught.value, FarmBusy)
    # the archive is kept for the next try
    for left in sending.crate.parent.glob("*.outbox/*"):
        left.unlink()


def test_x4_a_place_that_leads_elsewhere_is_refused(sending: Sending, ledger: Ledger, tmp_path: Path) -> None:
    (tmp_path / "place").mkdir()
    card = card_for((tmp_path / "place").as_uri())
    farm = farm_of(Somewhere(card, lambda: TOKEN, tmp_path / "place"))
    sent = send(sending, card, Path("x"), farm.link(), ledger)
    for name in ("../x", "a/b", ".hidden", ""):
        with pytest.raises(FarmError):
            farm.summary(name)
    (order,) = (tmp_path / "place").rglob("order.json")
    text = order.read_text()
    order.write_text(text.replace("1001-1003", "1001-1040"))
    put(open_place(card, lambda: TOKEN), order.parent.name, "Beauty/lantern_quay_beauty.1040.exr", packed_frame())
    with pytest.raises(FarmError, match="was not ordered"):
        track(ledger, sent.job, lambda _: farm_of(Somewhere(card, lambda: TOKEN, None)).link())
    order.write_text("{")
    with pytest.raises(FarmError, match="is damaged"):
        track(ledger, sent.job, lambda _: farm_of(Somewhere(card, lambda: TOKEN, None)).link())


def test_a_file_that_changed_after_packing_stops_it(crate: Path, tmp_path: Path) -> None:
    (tmp_path / "place").mkdir()
    farm = farm_of(Somewhere(card_for((tmp_path / "place").as_uri()), lambda: TOKEN, None))
    (crate / "textures/sky.png").write_bytes(b"changed")
    with pytest.raises(Blocked, match="not as it was packed"):
        farm.deliver(crate, read_packing_list(crate), lambda _: None)
    assert not list((tmp_path / "place").rglob("*.zip")) and Verdict.GOOD


def test_f2_damaged_frames_at_a_place_come_home_right_without_a_person_naming_any(
    packed: tuple[SceneContext, Path], ledger: Ledger, tmp_path: Path
) -> None:
    (tmp_path / "place").mkdir()
    somewhere = Somewhere(card_for((tmp_path / "place").as_uri()), lambda: TOKEN, tmp_path / "place")
    sending = prepared(packed[1], somewhere.card, frames="1001-1012", size="64x36", samples=1)
    link = farm_of(somewhere).link()
    job = send(sending, somewhere.card, Path("x"), link, ledger).job
    place = somewhere.open()
    (name,) = [one.path.split("/")[1] for one in place.find("") if one.path.endswith("order.json")]
    done: dict[tuple[str, int], Path] = {}
    scene = packed[1] / read_packing_list(packed[1]).scene
    tasks = tuple(Task("main", frame) for frame in range(1001, 1013))
    render(
        Order(scene, tasks, tmp_path / "there", width=64, height=36, samples=1, outputs=("Beauty", "Matte")),
        lambda one: done.update({(output, one.task.frame): path for output, path in one.files.items()}),
    )
    spoilt = {1003: "black", 1005: "invalid", 1007: "small", 1009: "truncated", 1011: "misnumbered"}
    for (output, frame), path in done.items():
        copy = tmp_path / "spoilt.exr"
        copy.write_bytes(path.read_bytes())
        if frame in spoilt and output == "Beauty":
            spoil(copy, spoilt[frame], done[output, frame - 1])
        put(place, name, f"{output}/{path.name}", copy.read_bytes())
    opened = lambda _: link  # noqa: E731
    rounds: list[set[int]] = []
    while not rounds or rounds[-1]:
        retrieve(ledger, job, tmp_path / "frames", opened)
        review = review_job(ledger, job)
        rounds.append({one.frame for one in review.frames if one.verdict is not Verdict.GOOD})
        wanted = to_rerender(ledger, job, suspect=True)
        assert {task.frame for task in wanted.tasks} == rounds[-1] and len(rounds) < 4
        if wanted.tasks:
            rerender(ledger, wanted, opened)
        for (output, frame), path in done.items():
            if frame in rounds[-1]:
                put(place, name, f"{output}/{path.name}", path.read_bytes(), f"frames-again-{len(rounds)}")
    # between so many bad frames a repeated one is only seen in the second round
    assert set.union(*rounds) == set(spoilt) and len(record(ledger, job).again) == len(spoilt)


def plain_frame(value: float) -> bytes:
    """An EXR of 64 x 36 that is as large as any other of these, and other in every pixel."""
    import tempfile

    import numpy as np
    import OpenEXR

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "x.exr")
        shade = np.linspace(value, 1 + value, 64 * 36, dtype=np.float16).reshape(36, 64)
        header = {"type": OpenEXR.scanlineimage, "compression": OpenEXR.NO_COMPRESSION}
        OpenEXR.File(header, dict.fromkeys("RGBA", shade)).write(str(path))
        return path.read_bytes()


class _Placed:
    """A job at a place, of which one frame comes and goes."""

    def __init__(self, somewhere: Somewhere, sending: Sending, ledger: Ledger, into: Path) -> None:
        self.farm, self.ledger, self.into = farm_of(somewhere), ledger, into
        self.link = self.farm.link()
        self.sent = send(sending, somewhere.card, Path("attic.farm.toml"), self.link, ledger)
        self.place = somewhere.open()
        (self.job,) = {one.path.split("/")[1] for one in self.place.find("") if one.path.endswith("order.json")}
        self.name = "Beauty/lantern_quay_beauty.1001.exr"
        put(self.place, self.job, "Matte/lantern_quay_matte.1001.exr", plain_frame(0.5))

    def put(self, data: bytes) -> None:
        put(self.place, self.job, self.name, data)

    def retrieve(self) -> bytes:
        retrieve(self.ledger, self.sent.job, self.into, lambda _: self.link)
        return (self.into / self.name).read_bytes()


@pytest.fixture
def placed(somewhere: Somewhere, sending: Sending, ledger: Ledger, tmp_path: Path) -> _Placed:
    return _Placed(somewhere, sending, ledger, tmp_path / "frames")


def _next_second() -> None:
    """Wait until a file that is written has another time of change: SFTP knows whole seconds."""
    time.sleep(1.05)


def test_a_frame_that_was_replaced_by_one_of_the_same_size_comes_home(placed: _Placed) -> None:
    first, second = plain_frame(0.0), plain_frame(1.0)
    assert len(first) == len(second) and first != second
    placed.put(first)
    assert placed.retrieve() == first
    _next_second()
    placed.put(second)
    assert placed.retrieve() == second
    # what did not change is not fetched again
    placed.place.fs.invalidate_cache()
    came = retrieve(placed.ledger, placed.sent.job, placed.into, lambda _: placed.link)
    assert not came.retrieved


def test_what_came_of_a_frame_is_not_continued_with_another_of_the_same_size(
    placed: _Placed, monkeypatch: pytest.MonkeyPatch
) -> None:
    first, second = plain_frame(0.0), plain_frame(1.0)
    placed.put(first)
    kind = type(placed.place)
    whole = kind.fetch
    halves: list[int] = []

    def breaks_off(self: Place, path: str, target: Path, offset: int, size: int, moved: Moved) -> None:
        if not path.endswith(placed.name):
            return whole(self, path, target, offset, size, moved)
        whole(self, path, target, offset, min(size, size // 2), moved)
        halves.append(target.stat().st_size)
        raise KeyboardInterrupt

    with monkeypatch.context() as broken:
        broken.setattr(kind, "fetch", breaks_off)
        with pytest.raises(KeyboardInterrupt):
            placed.retrieve()
    assert halves and 0 < halves[0] < len(first)
    _next_second()
    placed.put(second)
    assert placed.retrieve() == second


def test_a_frame_that_changes_while_it_is_fetched_is_not_glued_together(
    placed: _Placed, monkeypatch: pytest.MonkeyPatch
) -> None:
    first, second = plain_frame(0.0), plain_frame(1.0)
    placed.put(first)
    kind = type(placed.place)
    whole = kind.fetch
    again = [True]

    def changes(self: Place, path: str, target: Path, offset: int, size: int, moved: Moved) -> None:
        if path.endswith(placed.name) and again:
            again.clear()
            whole(self, path, target, offset, size // 2, moved)
            _next_second()
            placed.put(second)
            offset = size // 2
        whole(self, path, target, offset, size, moved)

    monkeypatch.setattr(kind, "fetch", changes)
    with contextlib.suppress(FarmError):
        retrieve(placed.ledger, placed.sent.job, placed.into, lambda _: placed.link)
    assert not (placed.into / placed.name).exists() or (placed.into / placed.name).read_bytes() == second
    assert placed.retrieve() == second


def test_what_has_no_identity_is_fetched_from_its_beginning(tmp_path: Path) -> None:
    from tidy_crate.core.job.fetching import Looks, Wanted, fetch
    from tidy_crate.core.work.attempt import Product

    data = plain_frame(0.25)
    product = Product(output="Beauty", key="k", bytes=len(data))
    wanted = Wanted(1, 1, Task("main", 1001), product, PurePosixPath("Beauty/b.1001.exr"))
    (tmp_path / wanted.draft).parent.mkdir()
    (tmp_path / wanted.draft).write_bytes(b"of another file")

    class Farm:
        def fetch(self, job: str, product: Product, target: Path, offset: int, moved: Moved) -> None:
            assert offset == 0
            target.write_bytes(data)

    with contextlib.ExitStack() as stack:
        found = fetch(Farm(), "j", wanted, tmp_path, Looks(stack))  # type: ignore[arg-type]
        assert found is not None and found.read_bytes() == data


def test_no_name_in_a_job_sheet_is_markup_and_no_page_loads_anything() -> None:
    from markdown_it import MarkdownIt

    from tidy_crate.core.farm.links.drop.job_sheet import (
        JobSheet,
        OutputLine,
        Setting,
        SheetPart,
        as_html,
        as_markdown,
    )

    name = "a`![x](http://127.0.0.1/x.png)`` <img src=http://127.0.0.1/y.png> | ![z][1] `b"
    part = SheetPart(name, (Setting(name, name),), (OutputLine(name, name, name, ((name, name),)),))
    sheet = JobSheet(
        job=name, title=name, archive=name, bytes=1, blake3="0", sha256=name, command=name,
        scene=name, programs=(name,), parts=(part,),
        machine=name, nodes=1, batch=1, frames_folder=name, numbering=name, start=name, clock=(name,), excused=(name,),
        again=name,
    )  # fmt: skip
    tokens = MarkdownIt("commonmark").enable("table").parse(as_markdown(sheet))
    inner = [child for token in tokens for child in token.children or ()]
    assert not [one for one in (*tokens, *inner) if one.type in ("image", "html_block", "html_inline", "link_open")]
    # what a person copies is the name itself, every mark of it
    assert any(one.type == "code_inline" and one.content == name for one in inner)
    # a cell holds all of a name: a bar in it does not begin another one
    assert sum(token.type == "td_open" for token in tokens) == 2 + 4
    page = as_html(sheet)
    assert "<img" not in page.replace("&lt;img", "") and "default-src 'none'" in page
