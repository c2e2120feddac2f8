"""C7: versions as their makers write them."""

from __future__ import annotations

import itertools

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tidy_crate.core.versions import NotComparable, Offered, parse_range, parse_version

IN_ORDER = [
    "2.9", "3.0dev", "3.0 alpha", "3.0b1", "3.0b2", "3.0 rc1", "v3.0", "3.0a", "3.0 sp1", "3.0.1", "3.2", "3.2.10",
    "R21",
]  # fmt: skip


@pytest.mark.parametrize(("older", "newer"), itertools.pairwise(IN_ORDER))
def test_versions_stand_in_the_order_that_their_makers_mean(older: str, newer: str) -> None:
    assert parse_version(older) < parse_version(newer) and parse_version(newer) > parse_version(older)


@pytest.mark.parametrize(
    ("one", "other"),
    [("3.2", "3.2.0"), ("v3.2", "3.2"), ("R21.0.631", "21.0.631"), ("2025.1 (build 7)", "2025.1"), ("4.2 LTS", "4.2")],
)
def test_one_version_has_several_spellings(one: str, other: str) -> None:
    assert parse_version(one) == parse_version(other) and hash(parse_version(one)) == hash(parse_version(other))


def test_years_and_updates() -> None:
    assert parse_version("2024.2") < parse_version("2025") < parse_version("2025 Update 3") < parse_version("2025.1")


@pytest.mark.parametrize("text", ["", "latest", "unknown", "v", "3.2-nightly", "3.2/4", "x.y"])
def test_what_has_no_place_in_an_order_is_not_compared(text: str) -> None:
    with pytest.raises(NotComparable, match="no version"):
        parse_version(text)


def test_a_year_is_not_compared_with_a_number() -> None:
    with pytest.raises(NotComparable, match="counted in different ways"):
        _ = parse_version("2024.1") < parse_version("12.3")


@given(st.lists(st.integers(0, 400), min_size=1, max_size=5), st.lists(st.integers(0, 400), min_size=1, max_size=5))
def test_dotted_numbers_compare_as_numbers(one: list[int], other: list[int]) -> None:
    ours, theirs = (parse_version(".".join(map(str, parts))) for parts in (one, other))
    padded = [parts + [0] * (5 - len(parts)) for parts in (one, other)]
    assert (ours < theirs) == (padded[0] < padded[1]) and (ours == theirs) == (padded[0] == padded[1])


@pytest.mark.parametrize(
    ("text", "inside", "outside"),
    [
        ("3.2", ["3.2", "3.2.0"], ["3.2.1", "3.1"]),
        ("3.2.*", ["3.2", "3.2.9"], ["3.3", "3.1.9"]),
        ("3.0.*", ["3.0.4"], ["3.1", "2.9"]),
        ("3.0 - 3.2", ["3.0", "3.1.5", "3.2"], ["3.2.1", "2.9"]),
        (">=3.0, <3.3", ["3.0", "3.2.9"], ["3.3", "2.9"]),
        (">3.0", ["3.0.1", "9"], ["3.0"]),
        ("2025.*", ["2025.3"], ["2026", "2024.9"]),
    ],
)
def test_ranges(text: str, inside: list[str], outside: list[str]) -> None:
    found = parse_range(text)
    assert all(parse_version(one) in found for one in inside)
    assert not any(parse_version(one) in found for one in outside)


@pytest.mark.parametrize("text", ["", "3.2 - 3.0", "x.*", ".*", ">=", "3.0 3.1", ">=3.0 <4"])
def test_ranges_that_make_no_sense_are_refused(text: str) -> None:
    with pytest.raises(NotComparable):
        parse_range(text)


def test_older_and_newer_than_all_that_is_offered() -> None:
    offered = Offered.of(["3.1.*", ">=3.3, <3.4"])
    assert offered.all_older(parse_version("3.4")) and not offered.all_older(parse_version("3.3.9"))
    assert offered.all_newer(parse_version("3.0")) and parse_version("3.2") not in offered
    assert str(offered) == "3.1.*, >=3.3, <3.4"
