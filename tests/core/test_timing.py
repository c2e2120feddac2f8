"""E1 to E3: which frames to test, what they say of all others, and timings from elsewhere."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta, timezone
from pathlib import Path
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tidy_crate.core.errors import TidyCrateError, UnreadableInput, WrongUsage
from tidy_crate.core.estimate.choose import along_the_shot, most_telling, spread_frames, with_earlier
from tidy_crate.core.estimate.durations import parse_seconds, parse_share
from tidy_crate.core.estimate.timing import fixed_share, shot_times
from tidy_crate.core.estimate.timings import FrameTiming, Timings
from tidy_crate.core.estimate.what_if import changed, parse_change
from tidy_crate.core.estimate.when import parse_when
from tidy_crate.core.estimate.work import view_factors
from tidy_crate.core.estimate.written import table_timings, typed_timings
from tidy_crate.core.work.request import RenderRequest, View

MAIN = RenderRequest(name="main", frames="1-100", width=1920, height=1080, samples=64, outputs=("Beauty",))


def chance() -> np.random.Generator:
    return np.random.default_rng(1)


def timed(*frames: tuple[int, float], width: int | None = None, samples: int | None = None) -> tuple[FrameTiming, ...]:
    height = None if width is None else width * 9 // 16
    return tuple(FrameTiming("main", frame, seconds, width, height, samples) for frame, seconds in frames)


@given(st.integers(1, 500), st.integers(1, 20))
def test_e1_test_frames_are_spread_and_belong_to_the_range(length: int, count: int) -> None:
    numbers = tuple(range(1001, 1001 + length))
    for positions in (None, along_the_shot(None, length)):
        chosen = spread_frames(numbers, count, positions)
        assert len(set(chosen)) == min(count, length) and set(chosen) <= set(numbers)
        assert chosen != (1001,) or length <= 2


def test_e1_test_frames_go_where_the_picture_changes() -> None:
    # nothing happens but between frames 70 and 80
    activity = np.zeros((100, 2))
    activity[70:80, 0] = np.arange(10)
    activity[80:, 0] = 10
    chosen = spread_frames(tuple(range(100)), 6, along_the_shot(activity, 100))
    assert sum(68 <= frame <= 81 for frame in chosen) >= 3
    assert sum(70 <= frame < 80 for frame in spread_frames(tuple(range(100)), 6)) <= 1


@given(st.integers(0, 2**32 - 1), st.integers(2, 300), st.integers(1, 6))
def test_e1_no_frame_stands_outside_of_the_shot(seed: int, frames: int, features: int) -> None:
    activity = np.random.default_rng(seed).standard_normal((frames, features))
    along = along_the_shot(activity, frames)
    assert along[0] == 0 and along[-1] == 1 and (np.diff(along) >= 0).all()


def test_e1_test_frames_go_where_earlier_frames_took_another_time() -> None:
    numbers = tuple(range(100))
    earlier = {frame: 10.0 if frame < 70 else 10.0 * 1.2 ** min(10, frame - 70) for frame in range(0, 100, 2)}
    chosen = spread_frames(numbers, 6, along_the_shot(with_earlier(None, numbers, earlier), 100))
    assert sum(68 <= frame <= 81 for frame in chosen) >= 3
    assert with_earlier(None, numbers, {1: 2.0, 5: 3.0}) is None
    both = with_earlier(np.zeros((100, 2)), numbers, earlier)
    assert both is not None and both.shape == (100, 3)


def test_e2_views_that_were_timed_count_by_their_own_time_and_the_rest_like_them() -> None:
    views = tuple(View(name=name, camera=f"/{name}") for name in ("a", "b", "c", "d"))
    request = RenderRequest(name="main", frames="1-4", width=64, height=36, outputs=("o",), views=views)
    plain = Timings(timed((1, 2.0)), 0.0, "measured")
    assert (view_factors(request, plain, np.random.default_rng(1), 50) == 1).all()
    some = replace(plain, views={("main", "b"): 2.0, ("main", "c"): 4.0})
    found = view_factors(request, some, np.random.default_rng(1), 20_000)
    assert (found[:, 0] == 1).all()
    middle = np.median(found, axis=0)
    # the geometric mean of 1, 2 and 4 for the one that was not timed
    assert middle[1:] == pytest.approx([2.0, 4.0, 2.0], rel=0.03)
    assert found[:, 3].std() > found[:, 1].std()


def test_e1_the_next_frame_is_where_least_is_known() -> None:
    # both ends are known, and between frames 40 and 90 nothing is
    known = timed(*((frame, 10.0 + 5 * (frame > 60)) for frame in (1, 10, 20, 30, 40, 90, 95, 100)))
    shot = shot_times(MAIN, Timings(known, 0.0, "measured"), chance(), 300)
    assert all(40 < frame < 90 for frame in most_telling(shot, 2))
    one = MAIN.model_copy(update={"frames": "1-2"})
    assert most_telling(shot_times(one, Timings(timed((1, 1.0), (2, 1.0)), 0.0, "measured"), chance(), 50)) == ()


def test_e2_measured_frames_are_known_and_the_others_lie_around_them() -> None:
    shot = shot_times(MAIN, Timings(timed((10, 20.0), (50, 22.0), (90, 24.0)), 0.0, "measured"), chance(), 200)
    at = MAIN.numbers().index(50)
    assert (shot.draws[:, at] == 22.0).all() and shot.draws.shape == (200, 100)
    low, middle, high = np.quantile(shot.draws.sum(axis=1), (0.1, 0.5, 0.9))
    assert low < 2200 < high and middle == pytest.approx(2200, rel=0.05)
    # what is known of more frames is known better
    more = tuple((frame, 20.0 + frame / 25) for frame in range(5, 100, 5))
    assert shot_times(MAIN, Timings(timed(*more), 0.0, "measured"), chance(), 200).width < shot.width


def test_e2_pixels_and_samples_are_scaled_and_a_noise_target_stops_samples() -> None:
    small = timed((10, 1.0), (90, 1.0), width=960, samples=16)
    total = shot_times(MAIN, Timings(small, 0.0, "measured"), chance(), 200).likely.sum()
    assert total == pytest.approx(100 * 4 * 4, rel=0.1)
    ended = shot_times(MAIN, Timings(small, 0.0, "measured", noise_target=True), chance(), 200).likely.sum()
    assert ended == pytest.approx(100 * 4, rel=0.1)


@given(st.floats(0, 0.9), st.floats(0.05, 0.8), st.floats(0.1, 100))
def test_e2_two_settings_tell_what_does_not_shrink(fixed: float, work: float, whole: float) -> None:
    small = whole * (fixed + (1 - fixed) * work)
    assert fixed_share([(5, work, small), (5, 1.0, whole), (9, work, small)]) == pytest.approx(fixed, abs=1e-6)


def test_e2_one_frame_still_gives_a_range() -> None:
    shot = shot_times(MAIN, Timings(timed((10, 20.0)), 0.0, "measured"), chance(), 400)
    assert 0.05 < shot.width < 3 and np.isfinite(shot.draws).all()


@pytest.mark.parametrize(("text", "seconds"), [("80", 80), ("80s", 80), ("1.5m", 90), ("2h", 7200), (" 3 min ", 180)])
def test_e3_units_of_time(text: str, seconds: float) -> None:
    assert parse_seconds(text) == seconds


@pytest.mark.parametrize("text", ["", "0", "-3s", "1,5s", "nan", "inf", "1e9", "80 parsecs", "99999999999"])
def test_e3_what_is_no_time_is_refused(text: str) -> None:
    with pytest.raises(WrongUsage):
        parse_seconds(text)


def test_shares() -> None:
    assert parse_share("25%") == parse_share("0.25") == 0.25
    for wrong in ("", "%", "0%", "-5%", "nan", "half"):
        with pytest.raises(WrongUsage):
            parse_share(wrong)


def test_e3_typed_timings() -> None:
    found = typed_timings(None, ["1=80s,100=6m"], (MAIN,))
    assert [(one.frame, one.seconds) for one in found.frames] == [(1, 80), (100, 360)]
    alike = typed_timings("80s", [], (MAIN,), load="1m")
    assert alike.load_seconds == 60 and shot_times(MAIN, alike, chance(), 100).likely.sum() == pytest.approx(
        8000, rel=0.05
    )
    for wrong in ("7", "1=", "1=80s,1=90s", "500=80s", "1=2,5s", "side/1=3s"):
        with pytest.raises(WrongUsage):
            typed_timings(None, [wrong], (MAIN,))


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        ("frame,seconds\n1,80\n50,1.5m\n", {1: 80, 50: 90}),
        ("seconds,frame\n80,1\n", {1: 80}),
        ("\ufeffFrame;Seconds\n1;80\n\n", {1: 80}),
        ("frame\tseconds\trequest\n1\t80\tmain\n", {1: 80}),
    ],
)
def test_e3_a_table_of_timings(text: str, seconds: dict[int, float], tmp_path: Path) -> None:
    path = tmp_path / "t.csv"
    path.write_text(text, encoding="utf-8")
    assert {one.frame: one.seconds for one in table_timings(path, (MAIN,)).frames} == seconds


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("", "no header"),
        ("1,80\n2,90\n", "no header"),
        ("frame,seconds\n", "no timing"),
        ("frame,seconds\n1,-80\n", "not above zero"),
        ("frame,seconds\n1,0\n", "not above zero"),
        ('frame,seconds\n1,"80,5"\n', "decimal comma"),
        ("frame,seconds\n1,80,5\n", "3 fields"),
        ("frame,seconds\n900,80\n", "not rendered: the crate has 1 to 100"),
        ("frame,seconds,request\n1,80,side\n", "no request"),
        ("frame,seconds\n1.5,80\n", "whole number"),
        ("frame,seconds,colour\n1,80,red\n", "not known"),
        ("frame,seconds,width\n1,80,640\n", "belong together"),
        ("frame,seconds\n1,80\n1,90\n", "two timings"),
        ('frame,seconds\n1,"80\n', "not a table"),
    ],
)
def test_e3_a_table_that_is_wrong_is_told_with_its_line(text: str, message: str, tmp_path: Path) -> None:
    path = tmp_path / "t.csv"
    path.write_text(text, encoding="utf-8")
    with pytest.raises(TidyCrateError, match=message):
        table_timings(path, (MAIN,))
    path.write_bytes(b"\xff\xfe\x00")
    with pytest.raises(UnreadableInput, match="UTF-8"):
        table_timings(path, (MAIN,))


def test_e10_changes_of_what_is_rendered() -> None:
    (found,) = changed((MAIN,), parse_change("samples=16, scale=50%,frames=1-10x2,20"))
    assert (found.width, found.height, found.samples, found.numbers()) == (960, 540, 16, (1, 3, 5, 7, 9, 20))
    assert parse_change("speed=2").speed == 2
    for wrong in (
        "",
        "samples",
        "samples=0",
        "samples=x",
        "scale=0",
        "colour=red",
        "samples=1,samples=2",
        "frames=",
        "speed=-1",
    ):
        with pytest.raises(WrongUsage):
            changed((MAIN,), parse_change(wrong))
    with pytest.raises(WrongUsage, match="how many samples"):
        changed((MAIN.model_copy(update={"samples": None}),), parse_change("samples=16"))


# a Wednesday
NOW = datetime(2026, 11, 25, 14, 30, tzinfo=timezone(timedelta(hours=1)))


@pytest.mark.parametrize(
    ("text", "hours"),
    [
        ("Fri 18:00", 51.5), ("friday 18:00", 51.5), ("18:00", 3.5), ("9:00", 18.5), ("Wed 14:00", 167.5),
        ("tomorrow 9:00", 18.5), ("+8h", 8), ("2026-11-26T14:30+01:00", 24), ("2026-11-26T14:30Z", 25),
        ("2026-11-26 14:30", 24), ("2026-11-25", 9.4833),
    ],
)  # fmt: skip
def test_e9_points_in_time(text: str, hours: float) -> None:
    found = parse_when(text, NOW, lambda at: at.replace(tzinfo=NOW.tzinfo))
    assert (found - NOW).total_seconds() / 3600 == pytest.approx(hours, abs=0.001)


@pytest.mark.parametrize(
    ("now", "text", "hours"),
    [
        # on 25 October 2026 at 3:00 the clocks go back to 2:00, on 28 March 2027 at 2:00 they go on to 3:00
        ("2026-10-24T18:00+02:00", "tomorrow 18:00", 25), ("2026-10-24T18:00+02:00", "Sun 1:00", 7),
        ("2026-10-24T18:00+02:00", "Sun 4:00", 11), ("2027-03-27T18:00+01:00", "18:30", 0.5),
        ("2027-03-27T18:00+01:00", "tomorrow 18:00", 23), ("2027-03-27T18:00+01:00", "2027-03-29 18:00", 47),
    ],
)  # fmt: skip
def test_e9_a_time_beyond_a_change_of_the_clocks_is_that_of_the_clock_on_the_wall(
    now: str, text: str, hours: float
) -> None:
    try:
        zone = ZoneInfo("Europe/Berlin")
    except ZoneInfoNotFoundError:
        pytest.skip("this system has no time zones: install tzdata")
    begin = datetime.fromisoformat(now).astimezone(zone)
    found = parse_when(text, begin, lambda at: at.replace(tzinfo=zone))
    assert (found.astimezone(UTC) - begin.astimezone(UTC)).total_seconds() / 3600 == pytest.approx(hours)


@pytest.mark.parametrize("text", ["", "soon", "Fry 18:00", "25:00", "2026-13-01", "today 9:00", "2026-11-25T14:30Z+9"])
def test_e9_what_is_no_time_or_past_is_refused(text: str) -> None:
    with pytest.raises(WrongUsage):
        parse_when(text, NOW)
    with pytest.raises(WrongUsage, match="past"):
        parse_when("2026-11-25T12:30Z", NOW)
