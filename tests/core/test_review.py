"""Every frame opened and judged."""

from __future__ import annotations

import os
import struct
import time
import zlib
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import OpenEXR
import psutil
import pytest
from PIL import Image

from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.crate.packing import read_packing_list
from tidy_crate.core.picture.decode import frame_blocks, reads_to_the_end
from tidy_crate.core.picture.judge import Expected, judge_file, pass_channels
from tidy_crate.core.picture.readers import FrameReaders, Looked
from tidy_crate.core.picture.thumbnail import thumbnail
from tidy_crate.core.picture.tone import tone_of
from tidy_crate.core.review.folder import review_folder
from tidy_crate.core.review.sheet import write_contact_sheet
from tidy_crate.core.review.verdicts import FrameVerdict, Review
from tidy_crate.core.scene.model import Pass
from tidy_crate.core.work.attempt import Verdict
from traps import png

PASSES = (
    Pass(name="beauty", source="beauty", data_type="color3f"),
    Pass(name="depth", source="depth", data_type="float"),
)
WANTED = Expected(width=32, height=18, passes=PASSES)


def picture(path: Path, width: int = 32, height: int = 18, value: float = 0.5, depth: bool = True) -> Path:
    rng = np.random.default_rng(1)
    channels = {name: (value * rng.random((height, width))).astype(np.float16) for name in "RGB"}
    if depth:
        channels["depth.Z"] = np.ones((height, width), np.float32)
    path.parent.mkdir(parents=True, exist_ok=True)
    OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}, channels).write(str(path))
    return path


def test_f3_a_good_frame_is_good(tmp_path: Path) -> None:
    assert judge_file(picture(tmp_path / "a.exr"), WANTED).verdict is Verdict.GOOD


def huge_exr(path: Path, size: int = 16384) -> Path:
    """A small file that unpacks to gigabytes."""
    channels = {name: np.zeros((size, 64), np.float16) for name in "RGB"}
    OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}, channels).write(str(path))
    data = bytearray(path.read_bytes())
    for name in (b"dataWindow\0box2i\0", b"displayWindow\0box2i\0"):
        at = data.index(name) + len(name) + 4
        data[at + 8 : at + 12] = struct.pack("<i", size - 1)
    path.write_bytes(bytes(data))
    return path


def test_x4_the_size_is_judged_by_the_header_before_any_pixel_is_decoded(tmp_path: Path) -> None:
    frame = huge_exr(tmp_path / "a.exr")
    began = time.perf_counter()
    judged = judge_file(frame, WANTED)
    assert judged.verdict is Verdict.BAD and "16384 x 16384, not 32 x 18" in judged.reasons[0]
    # some lines at a time: what the file does not hold is not waited for
    judged = judge_file(frame, Expected())
    assert judged.verdict is Verdict.BAD and "cannot be read to the end" in judged.reasons[0]
    four = bytearray(png(30_000, 30_000))
    four[25] = 6  # red, green, blue and alpha
    four[29:33] = struct.pack(">I", zlib.crc32(four[12:29]))
    (tmp_path / "c.png").write_bytes(four)
    judged = judge_file(tmp_path / "c.png", Expected())
    assert judged.verdict is Verdict.SUSPECT and "GiB of memory" in judged.reasons[0]
    (tmp_path / "b.png").write_bytes(png(100_000, 100_000))
    judged = judge_file(tmp_path / "b.png", Expected())
    assert judged.verdict is Verdict.BAD and "100000 x 100000" in judged.reasons[0]
    assert time.perf_counter() - began < 5


def test_x4_only_the_format_of_its_name_is_opened(tmp_path: Path) -> None:
    (tmp_path / "a.png").write_bytes(b"%!PS-Adobe-3.0 EPSF-3.0\n%%BoundingBox: 0 0 9 9\nshowpage\n")
    Image.new("RGB", (32, 18), "red").save(tmp_path / "b.gif")
    (tmp_path / "b.gif").rename(tmp_path / "b.png")
    for name in ("a.png", "b.png"):
        judged = judge_file(tmp_path / name, Expected(width=32, height=18))
        assert judged.verdict is Verdict.BAD and "cannot be read" in judged.reasons[0]


def test_x4_a_deep_image_is_said_to_be_one(tmp_path: Path) -> None:
    frame = picture(tmp_path / "a.exr")
    data = frame.read_bytes()
    kind = b"type\0string\0" + struct.pack("<i", 13) + b"scanlineimage"
    assert kind in data
    frame.write_bytes(data.replace(kind, b"type\0string\0" + struct.pack("<i", 12) + b"deepscanline"))
    judged = judge_file(frame, WANTED)
    assert judged.verdict is Verdict.SUSPECT and "deep" in judged.reasons[0]


LAYOUTS = {
    "lines": {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage},
    "long-pieces": {"compression": OpenEXR.DWAB_COMPRESSION, "type": OpenEXR.scanlineimage},
    "tiles": {"type": OpenEXR.tiledimage, "tiles": OpenEXR.TileDescription()},
}  # fmt: skip


@pytest.mark.parametrize("layout", LAYOUTS)
@pytest.mark.parametrize("parts", [1, 3])
def test_x4_pixels_come_some_lines_at_a_time_as_the_library_reads_them_whole(
    layout: str, parts: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The reference is the library's own reading of the whole file."""
    monkeypatch.setattr("tidy_crate.core.picture.exr.BLOCK_BYTES", 1 << 16)
    header = LAYOUTS[layout]
    rng = np.random.default_rng(3)
    shape = (301, 157)
    channels = {
        "R": rng.random(shape).astype(np.float16), "Z": rng.random(shape).astype(np.float32),
        "id": rng.integers(0, 1 << 32, shape, np.uint32),
    }  # fmt: skip
    path = tmp_path / "a.exr"
    window = (np.array([-7, -20], np.int32), np.array([149, 280], np.int32))
    whole = [OpenEXR.Part({**header, "dataWindow": window, "name": f"part{n}"}, channels) for n in range(parts)]
    OpenEXR.File(whole).write(str(path))
    blocks = list(frame_blocks(path))
    assert len(blocks) >= parts * (2 if layout == "long-pieces" else 4)
    reference = OpenEXR.File(str(path), separate_channels=True)
    for number in range(parts):
        for name, channel in reference.channels(number).items():
            own = name if number == 0 else f"{number}:{name}"
            found = np.concatenate([block.channels[own] for block in blocks if own in block.channels])
            assert found.dtype == channel.pixels.dtype and np.array_equal(found, channel.pixels)


def test_x4_a_library_that_breaks_off_costs_one_frame(tmp_path: Path) -> None:
    frames = [picture(tmp_path / f"a.{number:04d}.exr") for number in range(1, 5)]
    found = []
    with FrameReaders(1, seconds=20) as readers:
        for judged in readers.judge([Looked(path, WANTED) for path in frames]):
            found.append(judged.verdict)
            if len(found) == 1:
                for child in psutil.Process().children():
                    if any("picture.reader" in word for word in child.cmdline()):
                        child.kill()
    assert found.count(Verdict.GOOD) >= 3 and found[0] is Verdict.GOOD
    slow = tmp_path / "slow.exr"
    os.mkfifo(slow)
    with FrameReaders(1, seconds=1) as readers:
        late, good = readers.thumbnails([slow, frames[0]], 8, 8)
    assert late is None and good is not None and (good.width, good.height) == (8, 8)


def test_one_odd_frame_ends_no_review_and_prints_nothing(tmp_path: Path, capfd: pytest.CaptureFixture[str]) -> None:
    whole = picture(tmp_path / "x" / "a.0001.exr").read_bytes()
    rng = np.random.default_rng(5)
    for number in range(2, 40):
        broken = bytearray(whole)
        for at in rng.integers(0, len(broken), 6):
            broken[at] = int(rng.integers(0, 256))
        (tmp_path / "x" / f"a.{number:04d}.exr").write_bytes(bytes(broken))
    review = review_folder(tmp_path, None)
    assert len(review.frames) == 39
    assert capfd.readouterr() == ("", "")


@pytest.mark.parametrize(
    ("arguments", "reason"),
    [({"width": 16}, "16 x 18, not 32 x 18"), ({"value": 0.0}, "black"),
     ({"depth": False}, "passes are missing: depth"),
     ({"value": float("nan")}, "invalid numbers in R"), ({"value": float("inf")}, "invalid numbers")],
)  # fmt: skip
def test_f3_what_is_wrong_is_said(arguments: dict[str, float], reason: str, tmp_path: Path) -> None:
    judged = judge_file(picture(tmp_path / "a.exr", **arguments), WANTED)  # type: ignore[arg-type]
    assert judged.verdict is Verdict.BAD and reason in "; ".join(judged.reasons)


@pytest.mark.parametrize("keep", [0, 3, 4, 8, 60, 300, 0.3, 0.5, 0.9, -1])
def test_f3_a_truncated_frame_is_bad_and_nothing_is_printed(
    keep: float, tmp_path: Path, capfd: pytest.CaptureFixture[str]
) -> None:
    path = picture(tmp_path / "a.exr", 320, 180)
    data = path.read_bytes()
    path.write_bytes(data[: int(keep * len(data)) if 0 < keep < 1 else int(keep)])
    assert judge_file(path, Expected()).verdict is Verdict.BAD
    assert capfd.readouterr().err == ""


def test_x4_a_header_that_claims_a_huge_picture_is_bad_not_fatal(tmp_path: Path) -> None:
    path = picture(tmp_path / "a.exr")
    data = bytearray(path.read_bytes())
    at = data.index(b"dataWindow\0box2i\0") + len(b"dataWindow\0box2i\0") + 4
    data[at : at + 16] = struct.pack("<4i", 0, 0, 100_000, 100_000)
    path.write_bytes(data)
    assert judge_file(path, WANTED).verdict is Verdict.BAD


@pytest.mark.parametrize("content", [b"", b"not a picture", b"\x76\x2f\x31\x01" + b"\xff" * 64, bytes(500)])
def test_what_is_no_picture_is_bad(content: bytes, tmp_path: Path) -> None:
    for suffix in (".exr", ".png"):
        path = tmp_path / f"a{suffix}"
        path.write_bytes(content)
        assert judge_file(path, Expected()).verdict is Verdict.BAD


def test_a_folder_without_expectation_says_what_went_unchecked(tmp_path: Path) -> None:
    picture(tmp_path / "Beauty" / "a.0001.exr")
    Image.new("RGB", (8, 8), (9, 9, 9)).save(tmp_path / "Beauty" / "a.0002.png")
    review = review_folder(tmp_path, None)
    assert [(frame.frame, frame.verdict) for frame in review.frames] == [(1, Verdict.GOOD), (2, Verdict.GOOD)]
    assert review.frames[0].unchecked == ("size", "passes")


def test_f4_a_contact_sheet_holds_good_bad_and_missing_frames(tmp_path: Path) -> None:
    picture(tmp_path / "Beauty" / "a.0001.exr")
    (tmp_path / "Beauty" / "a.0002.exr").write_bytes(b"torn")
    write_contact_sheet(review_folder(tmp_path, None), tmp_path / "sheet.png")
    with Image.open(tmp_path / "sheet.png") as sheet:
        assert sheet.width > 1000 and len(sheet.convert("RGB").getcolors(1 << 20)) > 10  # type: ignore[arg-type]


def test_f2_a_folder_is_held_against_what_its_crate_promises(packed: tuple[SceneContext, Path], tmp_path: Path) -> None:
    content = read_packing_list(packed[1])
    request = content.requests[0].model_copy(
        update={"frames": "1001-1004", "outputs": ("Beauty",), "width": 32, "height": 18}
    )
    content = content.model_copy(update={"requests": (request,)})
    rng = np.random.default_rng(2)
    names = ("R", "G", "B", "A", "depth.Z", "normal.X", "objectId.id")
    for frame in (1001, 1002, 1004):
        pixels = {name: rng.random((18, 32)).astype(np.float32) for name in names}
        if frame == 1002:
            del pixels["normal.X"]
        path = tmp_path / "Beauty" / f"lantern_quay_beauty.{frame}.exr"
        path.parent.mkdir(exist_ok=True)
        OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}, pixels).write(str(path))
    review = review_folder(tmp_path, content)
    assert [(one.frame, one.verdict.value) for one in review.frames] == [
        (1001, "good"), (1002, "bad"), (1003, "missing"), (1004, "good"),
    ]  # fmt: skip
    assert review.frames[1].reasons == ("passes are missing: normal",)
    assert not review.clean and review.count(Verdict.GOOD) == 2
    write_contact_sheet(review, tmp_path / "sheet.png")
    with Image.open(tmp_path / "sheet.png") as sheet:
        # the mark of a rejected frame is a colour that nothing else on the sheet has
        assert (230, 80, 60) in {colour for _, colour in sheet.convert("RGB").getcolors(1 << 20)}  # type: ignore[union-attr]


@pytest.mark.parametrize(
    ("name", "source", "channels", "found"),
    [
        ("beauty", "beauty", ("R", "G", "B"), True),
        ("beauty", "beauty", ("R", "G"), False),
        ("rgba", "Ci", ("R", "G", "B", "A"), True),
        ("matte", "alpha", ("A",), True),
        ("depth", "depth", ("Z",), True),
        ("depth", "depth", ("depth.Z",), True),
        ("normal", "N", ("normal.X", "normal.Y"), True),
        ("normal", "N", ("normals.X",), False),
        ("id", "objectId", ("R", "G", "B"), False),
    ],
)
def test_a_pass_is_found_by_its_layer_or_by_the_names_the_trade_gives_it(
    name: str, source: str, channels: tuple[str, ...], found: bool
) -> None:
    planes = {channel: np.zeros((1, 1), np.float32) for channel in channels}
    assert bool(pass_channels(Pass(name=name, source=source, data_type=""), planes)) is found


def test_frames_that_are_read_at_once_leave_the_output_of_the_program_where_it_was(tmp_path: Path) -> None:
    import OpenEXR

    shade = np.full((16, 16), 0.5, np.float16)
    paths = [tmp_path / f"f{number}.exr" for number in range(8)]
    for path in paths:
        OpenEXR.File({"type": OpenEXR.scanlineimage}, dict.fromkeys("RGB", shade)).write(str(path))
    before = [(os.fstat(stream).st_dev, os.fstat(stream).st_ino) for stream in (1, 2)]
    with ThreadPoolExecutor(8) as pool:
        assert all(pool.map(reads_to_the_end, paths * 20))
    assert [(os.fstat(stream).st_dev, os.fstat(stream).st_ino) for stream in (1, 2)] == before


def test_x4_odd_pictures_are_judged_and_none_ends_the_review(tmp_path: Path) -> None:
    folder = tmp_path / "frames"
    folder.mkdir()
    rng = np.random.default_rng(3)
    pixels = rng.integers(20, 220, (36, 64, 3), np.uint8)
    Image.fromarray(pixels).quantize(64).save(folder / "palette.0001.png")
    Image.fromarray(pixels).convert("CMYK").save(folder / "ink.0001.tif")
    Image.fromarray(pixels[..., 0]).save(folder / "grey.0001.jpg")
    Image.fromarray(rng.integers(0, 2**16, (36, 64), np.uint16)).save(folder / "deep_grey.0001.png")
    many = {f"layer{number:05d}.R": np.ones((20, 34), np.float16) for number in range(2_000)}
    OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION}, many).write(str(folder / "many.0001.exr"))
    parts = [
        OpenEXR.Part({"name": name, "type": OpenEXR.scanlineimage}, dict.fromkeys("RGB", np.ones((36, 64), np.float16)))
        for name in ("beauty", "second")
    ]
    OpenEXR.File(parts).write(str(folder / "parts.0001.exr"))
    (folder / "text.0001.exr").write_text("this is no picture")
    (folder / "nothing.0001.png").write_bytes(b"")
    whole = picture(tmp_path / "whole.exr").read_bytes()
    for cut in (1, 8, 30, 200, len(whole) - 1):
        (folder / f"cut{cut}.0001.exr").write_bytes(whole[:cut])
    for at in range(40, len(whole), 211):
        (folder / f"flipped{at}.0001.exr").write_bytes(whole[:at] + bytes([whole[at] ^ 0xFF]) + whole[at + 1 :])
    found = {one.path.name.split(".")[0]: one.verdict for one in review_folder(folder, None).frames}
    for name in ("palette", "ink", "grey", "deep_grey", "many", "parts"):
        assert found[name] is Verdict.GOOD, name
    assert found["text"] is found["nothing"] is Verdict.BAD
    assert all(verdict is Verdict.BAD for name, verdict in found.items() if name.startswith("cut"))


def test_f3_bits_and_compression_are_those_that_were_ordered(tmp_path: Path) -> None:
    pixels = np.random.default_rng(1).random((36, 64)).astype(np.float16)
    path = tmp_path / "a.exr"
    header = {"compression": OpenEXR.DWAA_COMPRESSION, "type": OpenEXR.scanlineimage}
    OpenEXR.File(header, dict.fromkeys("RGB", pixels)).write(str(path))
    assert judge_file(path, Expected()).verdict is Verdict.GOOD
    lossy = judge_file(path, Expected(compression="zip"))
    assert lossy.verdict is Verdict.BAD and "compressed with dwaa, which loses detail" in lossy.reasons[0]
    shallow = judge_file(path, Expected(bit_depth=32))
    assert shallow.reasons == ("its channels have 16 bits, 32 were ordered",)
    form = judge_file(path, Expected()).form
    assert form is not None and form.channels == dict.fromkeys("BGR", "half") and form.compression == "dwaa"


def test_f3_invalid_numbers_are_told_with_their_place(tmp_path: Path) -> None:
    pixels = np.full((40, 64), 0.5, np.float16)
    wrong = pixels.copy()
    wrong[10:20, 30:50] = np.nan
    wrong[3, 60] = np.inf
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    OpenEXR.File(header, {"R": wrong, "G": pixels, "B": pixels}).write(str(tmp_path / "a.exr"))
    judged = judge_file(tmp_path / "a.exr", Expected())
    assert judged.invalid["R"].count == 201 and judged.invalid["R"].box == (30, 3, 61, 20)
    assert judged.reasons == ("201 invalid numbers in R: 31 x 17 pixels, from 30, 3",)


CONFIGURATION = """ocio_profile_version: 1
roles: {scene_linear: lin, default: lin}
displays:
  screen:
    - !<View> {name: half, colorspace: halved}
active_displays: [screen]
active_views: [half]
colorspaces:
  - !<ColorSpace> {name: lin}
  - !<ColorSpace>
    name: halved
    from_reference: !<MatrixTransform> {matrix: [0.5, 0, 0, 0, 0, 0.5, 0, 0, 0, 0, 0.5, 0, 0, 0, 0, 1]}
"""


def test_f4_frames_are_shown_through_the_colour_configuration_of_the_scene(tmp_path: Path) -> None:
    (tmp_path / "show.ocio").write_text(CONFIGURATION)
    grey = np.full((2, 3, 3), 0.5, np.float32)
    assert np.allclose(tone_of(tmp_path / "show.ocio", None)(grey), 0.25, atol=1e-3)
    plain = tone_of(None, None)(grey)
    assert np.allclose(plain, 0.7354, atol=1e-3)
    # one that cannot be used counts as none
    (tmp_path / "broken.ocio").write_text("no configuration")
    assert np.allclose(tone_of(tmp_path / "broken.ocio", None)(grey), plain)
    path = picture(tmp_path / "a.exr")
    shown = [thumbnail(path, 32, 18, tone).pixels for tone in (None, tone_of(tmp_path / "show.ocio", None))]
    assert np.frombuffer(shown[0], np.uint8).mean() > 1.5 * np.frombuffer(shown[1], np.uint8).mean()


def test_a_fault_of_every_frame_is_told_from_faults_of_some() -> None:
    def review(*found: tuple[Verdict, str]) -> Review:
        frames = (
            FrameVerdict(
                request="main",
                frame=number,
                output="b",
                path=Path("b.exr"),
                verdict=verdict,
                reasons=(why,) if why else (),
            )
            for number, (verdict, why) in enumerate(found)
        )
        return Review(frames=tuple(frames))

    black, good, gone = (Verdict.BAD, "black"), (Verdict.GOOD, ""), (Verdict.MISSING, "there is no file")
    assert review(black, black).shared_fault == "black"
    for others in ((black,), (black, good), (gone, gone), (black, (Verdict.BAD, "torn")), (good, good)):
        assert review(*others).shared_fault is None


def test_f2_gaps_in_the_numbers_of_a_folder_are_named(tmp_path: Path) -> None:
    for number in (1001, 1003, 1005, 1009, 1011):
        picture(tmp_path / "a" / f"a.{number}.exr")
    for number in (1, 5):
        picture(tmp_path / "b" / f"b.{number}.exr")
    assert review_folder(tmp_path, None).gaps == {"a": "1007"}
