"""Chunks, packs and uploads: what is sent, what is not sent again, and what becomes of one bad file."""

from __future__ import annotations

import threading
import time
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from blake3 import blake3
from hypothesis import given
from hypothesis import strategies as st

from farms import MemoryFarm
from tidy_crate.core.errors import Blocked, FarmBusy
from tidy_crate.core.progress import Step
from tidy_crate.core.transfer.chunks import GREATEST, LEAST, WINDOW, chunks, first_cut, scratch
from tidy_crate.core.transfer.pack import MOST_PIECES, BadPack, Piece, Unpacking, packed, size_of
from tidy_crate.core.transfer.upload import STRETCH, Refused, Source, Upload, segments

NOISE = np.random.default_rng(3).bytes(12 << 20)


def kept(before: bytes, after: bytes) -> int:
    """Bytes of the second that are in no chunk of the first."""
    known = {one.blake3 for one in chunks(memoryview(before))}
    return sum(one.bytes for one in chunks(memoryview(after)) if one.blake3 not in known)


def slow_candidates(data: bytes) -> list[int]:
    """The same by the definition, position by position."""
    found = []
    for end in range(WINDOW, len(data) + 1):
        first, second = (int.from_bytes(data[end - WINDOW + at : end - WINDOW + at + 4], "little") for at in (0, 4))
        if (first * 0x9E3779B1 + second * 0x85EBCA77) % 2**32 > 2**32 - 2**32 // (256 << 10):
            found.append(end)
    return found


def test_u2_cuts_are_where_the_definition_puts_them_also_across_blocks() -> None:
    data = NOISE[:1_900_003]
    view, wanted, at = memoryview(data), slow_candidates(data), WINDOW
    for each in [*wanted, None]:
        assert first_cut(view, at, len(data), scratch()) == each
        at = (each or 0) + 1
    assert len(wanted) > 1


@pytest.mark.parametrize("data", [b"", b"x", bytes(9 << 20), NOISE, b"ab" * (3 << 20)])
def test_u2_chunks_cover_a_file_without_gaps_within_their_limits(data: bytes) -> None:
    found = chunks(memoryview(data))
    assert b"".join(data[one.offset :][: one.bytes] for one in found) == data
    assert all(LEAST <= one.bytes <= GREATEST for one in found[:-1])
    assert all(one.blake3 == blake3(data[one.offset :][: one.bytes]).hexdigest() for one in found)


@pytest.mark.parametrize("at", [0, 5_000_001, 12 << 20])
def test_u2_an_insertion_or_overwrite_changes_few_chunks(at: int) -> None:
    new = np.random.default_rng(4).bytes(120_000)
    assert kept(NOISE, NOISE[:at] + new + NOISE[at:]) < len(new) + 3 * GREATEST
    over = NOISE[:at] + new + NOISE[at + len(new) :]
    assert kept(NOISE, over) < len(new) + 3 * GREATEST


def test_u2_a_file_is_cut_alike_whether_at_once_or_in_stretches(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "cache"
    path.write_bytes(NOISE)
    source = Source("0" * 64, len(NOISE), path, like="1" * 64)
    found = [one for _, some in segments(source, 2_500_001) for one in some]
    assert found == chunks(memoryview(NOISE))


def pieces_of(body: bytes) -> list[Piece]:
    unpacking = Unpacking()
    found = list(unpacking.whole(body, lambda _: None))
    unpacking.end()
    return found


@given(st.lists(st.tuples(st.integers(0, 2**63 - 1), st.binary(max_size=50)), max_size=5))
def test_u2_a_pack_comes_out_as_it_went_in(parts: list[tuple[int, bytes]]) -> None:
    pieces = [Piece(blake3(b"f").hexdigest(), offset, blake3(data).hexdigest(), data) for offset, data in parts]
    body = b"".join(bytes(part) for part in packed(pieces))
    assert len(body) == size_of(pieces)
    assert [(p.file, p.offset, p.blake3, bytes(p.data)) for p in pieces_of(body)] == [
        (p.file, p.offset, p.blake3, p.data) for p in pieces
    ]


def test_x4_a_body_that_is_no_pack_is_refused() -> None:
    body = b"".join(bytes(part) for part in packed([Piece("0" * 64, 0, "0" * 64, b"abc")]))
    for wrong in (body[:40], body[:-1], body + b"x", body * (MOST_PIECES + 1)):
        with pytest.raises(BadPack):
            pieces_of(wrong)


def write(folder: Path, name: str, data: bytes) -> Source:
    path = folder / name
    path.write_bytes(data)
    return Source(blake3(data).hexdigest(), len(data), path)


def test_u2_small_files_go_together_and_large_ones_in_chunks(tmp_path: Path) -> None:
    farm = MemoryFarm()
    small = [write(tmp_path, f"s{n}", b"%d" % n * 100) for n in range(2500)]
    large = write(tmp_path, "large", NOISE)
    done = Upload(farm).run([*small, large])
    assert done.sent == sum(one.bytes for one in small) + large.bytes and done.had == 0
    assert farm.blobs[large.blake3] == NOISE and all(one.blake3 in farm.blobs for one in small)
    assert sum(all(file != large.blake3 for file, _, _ in pack) for pack in farm.packs) == 3
    again = Upload(farm).run([*small, large])
    assert (again.sent, again.had) == (0, done.sent)


def test_u2_of_a_changed_file_only_the_change_is_sent(tmp_path: Path) -> None:
    farm = MemoryFarm()
    before = write(tmp_path, "a", NOISE)
    Upload(farm).run([before])
    after = write(tmp_path, "b", NOISE[: 6 << 20] + b"inserted" * 5000 + NOISE[6 << 20 :])
    done = Upload(farm).run([replace(after, like=before.blake3)])
    assert done.sent < 40_000 + 3 * GREATEST and done.sent + done.had == len(NOISE) + 40_000


def test_u2_the_same_bytes_in_several_places_are_sent_once(tmp_path: Path) -> None:
    farm = MemoryFarm()
    done = Upload(farm).run([write(tmp_path, "zeros", bytes(40 << 20)), write(tmp_path, "twice", NOISE + NOISE)])
    assert done.sent == STRETCH + len(NOISE)
    assert len(farm.blobs) == 2


def test_u2_a_break_in_the_middle_of_a_file_costs_what_was_on_its_way(tmp_path: Path) -> None:
    class Breaking(MemoryFarm):
        left = 1
        lock = threading.Lock()

        def take(self, pieces: Sequence[Piece]) -> list[Refused]:
            with self.lock:
                self.left -= 1
                if self.left < 0:
                    raise FarmBusy("the line broke", "f")
            return super().take(pieces)

    farm, source = Breaking(), write(tmp_path, "large", NOISE)
    with pytest.raises(FarmBusy):
        Upload(farm).run([source])
    farm.left = 10**6
    before = sum(size for pack in farm.packs for _, _, size in pack)
    done = Upload(farm).run([source])
    assert before > 0 and done.sent + before == len(NOISE)
    sent = [(file, offset) for pack in farm.packs for file, offset, _ in pack]
    assert len(sent) == len(set(sent))


@pytest.mark.parametrize("large", [True, False])
def test_u2_a_file_that_changed_under_way_is_named_and_keeps_no_other_away(large: bool, tmp_path: Path) -> None:
    farm = MemoryFarm()
    good = write(tmp_path, "good", b"good")
    bad = write(tmp_path, "bad", NOISE if large else b"was so")
    bad.path.write_bytes(bytes(reversed(bad.path.read_bytes())))
    with pytest.raises(Blocked, match="not as it was packed"):
        Upload(farm).run([bad, good])
    assert good.blake3 in farm.blobs and bad.blake3 not in farm.blobs


def test_u2_progress_never_goes_back_and_ends_at_the_whole(tmp_path: Path) -> None:
    seen: list[tuple[int, int]] = []
    farm = MemoryFarm()
    files = [write(tmp_path, "a", NOISE), write(tmp_path, "b", b"small")]
    Upload(farm, lambda step: seen.append((step.done, step.total))).run(files)
    assert [done for done, _ in seen] == sorted(done for done, _ in seen)
    assert seen[-1] == (len(NOISE) + 5, len(NOISE) + 5)


def test_x1_whoever_stops_an_upload_does_not_wait_for_the_rest(tmp_path: Path) -> None:
    class Slow(MemoryFarm):
        begun = 0

        def take(self, pieces: Sequence[Piece]) -> list[Refused]:
            self.begun += 1
            time.sleep(0.2)
            return super().take(pieces)

    farm = Slow()
    files = [write(tmp_path, f"f{n}", np.random.default_rng(n).bytes(1 << 20)) for n in range(40)]

    def stop(step: Step) -> None:
        if step.done > 2 << 20:
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        Upload(farm, stop).run(files)
    assert farm.begun < 20
