"""Small products that come many at a time, against answers that a farm should not give."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack
from pathlib import Path, PurePosixPath

import httpx
import pytest
from blake3 import blake3

from tidy_crate.core.errors import FarmBusy, FarmError
from tidy_crate.core.farm.links.http import HttpFarm
from tidy_crate.core.farm.protocol import FETCH_PACKS, OLDEST, VERSION
from tidy_crate.core.job.fetching import TOGETHER, Looks, Wanted, fetch, fetch_pack
from tidy_crate.core.transfer.pack import SMALL, Piece, in_packs, packed
from tidy_crate.core.work.attempt import Product
from tidy_crate.core.work.task import Task

DATA = [b"first", b"", b"third" * 1000, b"first"]
Answer = Callable[[httpx.Request], httpx.Response]


def product(number: int, data: bytes) -> Product:
    return Product(output="Beauty", key=f"k{number}", bytes=len(data), blake3=blake3(data).hexdigest())


PRODUCTS = [product(number, data) for number, data in enumerate(DATA)]


def wanted(number: int, one: Product) -> Wanted:
    return Wanted(number, 1, Task("main", 1000 + number), one, PurePosixPath("Beauty", f"b.{1000 + number}.exr"))


def pack_of(*data: bytes) -> bytes:
    pieces = [Piece(blake3(one).hexdigest(), 0, blake3(one).hexdigest(), one) for one in data]
    return b"".join(bytes(part) for part in packed(pieces))


def farm(answer: Answer, offers: Sequence[str] = ("fetch", FETCH_PACKS)) -> HttpFarm:
    hello = {"protocol": VERSION, "oldest": OLDEST, "farm": "f", "offers": list(offers)}

    def greeted(request: httpx.Request) -> httpx.Response:
        return httpx.Response(200, json=hello) if request.url.path == "/hello" else answer(request)

    return HttpFarm("harbour", "http://f", "secret-token", httpx.MockTransport(greeted), patience=0)


def test_f1_small_products_come_together_and_equal_ones_come_once() -> None:
    body = pack_of(*DATA[:3])
    found = list(farm(lambda _: httpx.Response(200, content=body)).fetch_small("7", PRODUCTS))
    assert {one.key: bytes(data) for one, data in found} == {f"k{number}": data for number, data in enumerate(DATA)}


def test_f1_a_farm_that_gives_out_single_files_only_is_not_asked_for_more() -> None:
    asked: list[httpx.Request] = []

    def answer(request: httpx.Request) -> httpx.Response:
        asked.append(request)
        return httpx.Response(500)

    assert list(farm(answer, ["fetch"]).fetch_small("7", PRODUCTS)) == []
    assert not asked


@pytest.mark.parametrize(
    ("body", "says"),
    [(pack_of(b"not asked for"), "not asked for"),
     (b"".join(bytes(part) for part in packed([Piece(PRODUCTS[0].blake3 or "", 1, "0" * 64, b"first")])), "not asked"),
     (b"".join(bytes(part) for part in packed([Piece(PRODUCTS[0].blake3 or "", 0, "0" * 64, b"1st")])), "not asked"),
     (pack_of(b"first", b"first"), "not asked for"),
     (pack_of(b"first")[:-1], "middle of a piece"),
     (b"<html>", "middle of a header")],
)  # fmt: skip
def test_x4_a_farm_that_sends_something_else_is_one_clear_error(body: bytes, says: str) -> None:
    with pytest.raises(FarmError, match=says):
        list(farm(lambda _: httpx.Response(200, content=body)).fetch_small("7", PRODUCTS))


def test_x4_a_farm_that_claims_a_huge_file_is_refused_before_it_is_read() -> None:
    head = bytes(next(packed([Piece(PRODUCTS[0].blake3 or "", 0, "0" * 64, b"x")])))
    huge = head[:40] + (0xFFFFFFFF).to_bytes(4, "little") + head[44:]
    read: list[int] = []

    def body() -> Iterator[bytes]:
        yield huge
        for number in range(1000):
            read.append(number)
            yield bytes(1 << 20)

    with pytest.raises(FarmError, match="not asked for"):
        list(farm(lambda _: httpx.Response(200, content=body())).fetch_small("7", PRODUCTS))
    assert not read


def test_f1_a_break_keeps_what_came_and_the_rest_is_fetched_by_itself(tmp_path: Path) -> None:
    def breaking() -> Iterator[bytes]:
        yield pack_of(DATA[0], DATA[1])
        raise httpx.ReadError("gone")

    def answer(request: httpx.Request) -> httpx.Response:
        if request.method == "POST":
            return httpx.Response(200, content=breaking())
        return httpx.Response(200, content=DATA[int(request.url.path[-1])])

    link = farm(answer)
    every = [wanted(number, one) for number, one in enumerate(PRODUCTS)]
    found = fetch_pack(link.fetch_small, "7", every, tmp_path)
    assert sorted(found) == [0, 1, 3]
    with ExitStack() as stack:
        third = fetch(link, "7", every[2], tmp_path, Looks(stack))
    assert third is not None and third.read_bytes() == DATA[2]
    assert [found[number].read_bytes() for number in (0, 1, 3)] == [DATA[0], DATA[1], DATA[3]]


def test_f1_a_product_that_arrives_damaged_is_left_to_be_fetched_by_itself(tmp_path: Path) -> None:
    def damaging(job: str, products: Sequence[Product]) -> Iterator[tuple[Product, bytes]]:
        yield products[0], b"f1rst"
        yield products[2], DATA[2]

    found = fetch_pack(damaging, "7", [wanted(number, one) for number, one in enumerate(PRODUCTS)], tmp_path)
    assert list(found) == [2]
    assert [path.name for path in (tmp_path / "Beauty").iterdir()] == [found[2].name]


def test_f1_a_farm_that_is_away_is_told_of_by_the_single_fetch(tmp_path: Path) -> None:
    link = farm(lambda _: httpx.Response(503))
    one = wanted(0, PRODUCTS[0])
    assert fetch_pack(link.fetch_small, "7", [one], tmp_path) == {}
    with ExitStack() as stack, pytest.raises(FarmBusy):
        fetch(link, "7", one, tmp_path, Looks(stack))


def test_f1_products_are_put_together_up_to_a_number_and_a_size() -> None:
    each = [wanted(number, PRODUCTS[0]) for number in range(TOGETHER + 1)]
    assert [len(pack) for pack in in_packs(each, lambda one: one.product.bytes, TOGETHER)] == [TOGETHER, 1]
    large = [wanted(number, PRODUCTS[0].model_copy(update={"bytes": SMALL})) for number in range(17)]
    assert [len(pack) for pack in in_packs(large, lambda one: one.product.bytes)] == [16, 1]
    assert large[0].is_small
    assert not wanted(0, PRODUCTS[0].model_copy(update={"bytes": SMALL + 1})).is_small
    assert not wanted(0, PRODUCTS[0].model_copy(update={"blake3": None})).is_small
