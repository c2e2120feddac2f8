"""The HTTP link against answers that a farm should not give, and signing in."""

from __future__ import annotations

import json
import socket
import threading
import time
from collections.abc import Callable
from pathlib import Path

import httpx
import pytest

from tidy_crate.core.errors import FarmBusy, FarmError, UnreadableInput
from tidy_crate.core.farm.card import FarmCard, find_card
from tidy_crate.core.farm.links.exchange import ATTEMPTS
from tidy_crate.core.farm.links.http import HttpFarm
from tidy_crate.core.farm.links.watch import LOOK, SILENCE, Watch
from tidy_crate.core.farm.protocol import OLDEST, VERSION, Capability
from tidy_crate.core.farm.sign_in import Keys, open_link
from tidy_crate.core.transfer.pack import Piece, Unpacking
from tidy_crate.core.transfer.upload import Source
from tidy_crate.core.work.attempt import Product

ACCOUNT = {"user": "a", "balance": "1.50", "currency": "EUR"}
CARD = """name = "harbour"
url = "https://f.invalid"
currency = "EUR"
rates_from = 2026-11-01
[sign_in]
token_file = "secret"
keyring = false
[[machine]]
name = "m"
nodes = 1
score = 1
memory_gb = 1
price_per_hour = "0.10"
"""


HELLO = {"protocol": VERSION, "oldest": OLDEST, "farm": "f", "offers": list(Capability)}


def link(answer: Callable[[httpx.Request], httpx.Response], hello: object = HELLO) -> HttpFarm:
    def greeted(request: httpx.Request) -> httpx.Response:
        return httpx.Response(200, json=hello) if request.url.path == "/hello" else answer(request)

    return HttpFarm("harbour", "http://f", "secret-token", httpx.MockTransport(greeted), patience=0)


@pytest.mark.parametrize(
    ("speaks", "remedy"),
    [({"protocol": OLDEST - 1, "oldest": 1}, "ask the farm"),
     ({"protocol": VERSION + 5, "oldest": VERSION + 1}, "newer tidy-crate")],
)  # fmt: skip
def test_versions_that_have_nothing_in_common_are_told_first(speaks: dict[str, int], remedy: str) -> None:
    with pytest.raises(FarmError, match="speaks the protocol in version") as caught:
        link(lambda _: httpx.Response(500), HELLO | speaks).account()
    assert remedy in (caught.value.remedy or "")


def test_a_newer_farm_that_still_speaks_our_version_will_do() -> None:
    newer = HELLO | {"protocol": VERSION + 1, "oldest": VERSION, "offers": [*HELLO["offers"], "dance"]}  # type: ignore[misc]
    assert link(lambda _: httpx.Response(200, json=ACCOUNT), newer).account().user == "a"


def test_what_a_farm_does_not_offer_is_not_asked_for() -> None:
    with pytest.raises(FarmError, match="makes no quotes of its own"):
        link(lambda _: httpx.Response(500), HELLO | {"offers": ["deliver"]}).quote(None)  # type: ignore[arg-type]


@pytest.mark.parametrize("code", [500, 502, 503, 429])
def test_what_may_pass_is_tried_a_few_times_and_not_for_ever(code: int) -> None:
    seen = []

    def answer(request: httpx.Request) -> httpx.Response:
        seen.append(request.headers["Authorization"])
        return httpx.Response(code, json={"detail": "busy"})

    with pytest.raises(FarmError, match="busy") as caught:
        link(answer).account()
    assert seen == ["Bearer secret-token"] * ATTEMPTS
    assert "secret-token" not in str(caught.value) + str(caught.value.remedy)


@pytest.mark.parametrize(("code", "message"), [(401, "token"), (403, "token"), (404, "gone"), (422, "gone")])
def test_what_repeating_will_not_mend_is_told_at_once(code: int, message: str) -> None:
    seen = []

    def answer(request: httpx.Request) -> httpx.Response:
        seen.append(request)
        return httpx.Response(code, json={"detail": "gone"})

    with pytest.raises(FarmError, match=message):
        link(answer).summary("1")
    assert len(seen) == 1


@pytest.mark.parametrize(
    "body", [b"", b"<html>", b"[]", b"{}", b'{"user": 1}', b'{"user":"a","balance":"x","currency":"EUR"}',
             b'{"user":"a","balance":"1","currency":"euro"}'],
)  # fmt: skip
def test_an_answer_that_makes_no_sense_is_one_clear_error(body: bytes) -> None:
    with pytest.raises(FarmError, match="makes no sense"):
        link(lambda _: httpx.Response(200, content=body)).account()


def test_u2_a_pack_says_how_long_it_is_and_is_repeated_whole() -> None:
    piece = Piece("0" * 64, 7, "1" * 64, b"a" * 3_000_000)
    got: list[bytes] = []

    def answer(request: httpx.Request) -> httpx.Response:
        assert request.headers["Content-Length"] == "3000076"
        got.append(request.read())
        return httpx.Response(503) if len(got) == 1 else httpx.Response(200, json={"refused": []})

    assert link(answer).take([piece]) == []
    assert len(got) == 2 and got[0] == got[1]
    (again,) = Unpacking().whole(got[1], lambda _: None)
    assert (again.file, again.offset, again.blake3, bytes(again.data)) == (piece.file, 7, piece.blake3, piece.data)


def test_u1_a_token_that_expires_is_asked_for_again_and_never_shown() -> None:
    tokens = iter(["first-token", "second-token", "second-token"])

    def answer(request: httpx.Request) -> httpx.Response:
        good = request.headers["Authorization"] == "Bearer second-token"
        return httpx.Response(200, json=ACCOUNT) if good else httpx.Response(401, json={"detail": "first-token is old"})

    def greeted(request: httpx.Request) -> httpx.Response:
        return httpx.Response(200, json=HELLO) if request.url.path == "/hello" else answer(request)

    farm = HttpFarm("harbour", "http://f", lambda: next(tokens), httpx.MockTransport(greeted), patience=0)
    assert farm.account().user == "a"
    same = HttpFarm("harbour", "http://f", lambda: "first-token", httpx.MockTransport(greeted), patience=0)
    with pytest.raises(FarmError, match="does not accept the token") as caught:
        same.account()
    assert "goes on where it was" in (caught.value.remedy or "") and "first-token" not in str(caught.value)


def test_u2_a_farm_without_room_is_told_at_once_and_not_asked_again() -> None:
    seen = []

    def answer(request: httpx.Request) -> httpx.Response:
        seen.append(request)
        return httpx.Response(507, json={"detail": "the disk is full"})

    with pytest.raises(FarmError, match="no room left") as caught:
        link(answer).take([Piece("0" * 64, 0, "0" * 64, b"x")])
    assert len(seen) == 1 and not isinstance(caught.value, FarmBusy)


@pytest.mark.parametrize("understands", [True, False])
def test_a_download_goes_on_or_starts_anew_as_the_farm_can(understands: bool, tmp_path: Path) -> None:
    whole = bytes(range(256)) * 10
    target = tmp_path / "frame"
    target.write_bytes(whole[:1000])

    def answer(request: httpx.Request) -> httpx.Response:
        assert request.headers["Range"] == "bytes=1000-"
        return httpx.Response(206, content=whole[1000:]) if understands else httpx.Response(200, content=whole)

    product = Product(output="o", key="k", bytes=len(whole), blake3="0" * 64)
    link(answer).fetch("1", product, target, 1000, lambda _: None)
    assert target.read_bytes() == whole


def test_x4_nothing_beyond_the_promised_size_is_written(tmp_path: Path) -> None:
    product = Product(output="o", key="../k", bytes=100, blake3="0" * 64)
    seen = []

    def answer(request: httpx.Request) -> httpx.Response:
        seen.append(request.url.raw_path)
        return httpx.Response(200, content=b"x" * 5_000_000)

    link(answer).fetch("a/b", product, tmp_path / "frame", 0, lambda _: None)
    assert (tmp_path / "frame").stat().st_size == 100
    # names of the farm are one part of a path each
    assert seen == [b"/v3/jobs/a%2Fb/products/..%2Fk"]


def test_many_contents_are_asked_about_in_pieces() -> None:
    asked: list[int] = []

    def answer(request: httpx.Request) -> httpx.Response:
        import json

        blobs = json.loads(request.content)["blobs"]
        asked.append(len(blobs))
        return httpx.Response(200, json={"blobs": blobs[:1]})

    lacking = link(answer).missing([Source(f"{n:064x}", n, Path("x")) for n in range(12_000)])
    assert sum(asked) == 12_000 and max(asked) <= 5000 and len(lacking) == len(asked)


def test_u1_the_token_comes_from_the_environment_before_the_file_and_never_from_the_card(tmp_path: Path) -> None:
    book = tmp_path / "token-addresses.json"
    path = tmp_path / "harbour.farm.toml"
    path.write_text(CARD)
    card = FarmCard.model_validate({**_content(CARD)})
    with pytest.raises(FarmError, match="no token") as caught:
        Keys({}, book).token_for(card, path)
    assert "TIDY_CRATE_TOKEN_HARBOUR" in (caught.value.remedy or "")
    (tmp_path / "secret").write_text("from-file\n")
    assert Keys({}, book).token_for(card, path) == "from-file"
    own = Keys({"TIDY_CRATE_TOKEN_HARBOUR": "from-environment"}, book)
    own.bind(card, path)
    assert own.token_for(card, path) == "from-environment"
    other = card.model_copy(update={"url": "gopher://f"})
    with pytest.raises(FarmError, match="nothing is installed that reaches a farm this way"):
        open_link(other, path, Keys({"TIDY_CRATE_TOKEN_HARBOUR": "x"}, book))


def _content(text: str) -> dict[str, object]:
    import tomllib

    return tomllib.loads(text)


def test_cards_are_found_by_path_or_by_name(tmp_path: Path) -> None:
    (tmp_path / "farms").mkdir()
    path = tmp_path / "farms" / "harbour.farm.toml"
    path.write_text(CARD)
    assert find_card("harbour", [tmp_path / "none", tmp_path / "farms"]) == path
    assert find_card(str(path), []) == path
    with pytest.raises(UnreadableInput, match="no farm") as caught:
        find_card("harbor", [tmp_path / "farms"])
    assert "harbour" in (caught.value.remedy or "")


@pytest.mark.parametrize(
    ("old", "new", "key"),
    [("nodes = 1", "nodes = 0", "machine.0.nodes"), ('"EUR"', '"euros"', "currency"),
     ('"0.10"', '"-1"', "price_per_hour"),
     ('name = "m"', 'name = "m"\nnodez = 2', "nodez"), ('"harbour"', '"Har bour"', "name")],
)  # fmt: skip
def test_a_card_that_is_wrong_names_the_key(old: str, new: str, key: str, tmp_path: Path) -> None:
    from tidy_crate.core.farm.card import read_card

    path = tmp_path / "x.farm.toml"
    path.write_text(CARD.replace(old, new, 1))
    with pytest.raises(UnreadableInput, match=key):
        read_card(path)


def test_u2_a_line_that_is_silent_is_told_within_ten_seconds_and_when_it_goes_on(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    assert SILENCE + LOOK < 10
    monkeypatch.setattr("tidy_crate.core.farm.links.watch.SILENCE", 0.5)
    monkeypatch.setattr("tidy_crate.core.farm.links.watch.LOOK", 0.05)
    told: list[str] = []

    class Signing:
        """A token, with somebody who is told."""

        tell = staticmethod(told.append)

        def __call__(self) -> str:
            return "t"

    with socket.create_server(("127.0.0.1", 0)) as server:
        farm = HttpFarm("harbour", f"http://127.0.0.1:{server.getsockname()[1]}", Signing(), patience=0.01)
        asking = threading.Thread(target=farm.hello)
        asking.start()
        connection, _ = server.accept()
        deadline = time.monotonic() + 9
        while not told:
            assert time.monotonic() < deadline
            time.sleep(0.02)
        body = json.dumps(HELLO).encode()
        connection.recv(4096)
        connection.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n%s" % (len(body), body))
        asking.join(9)
        connection.close()
    assert "harbour: nothing has come or gone for" in told[0] and told[-1] == "harbour: it goes on"
    assert len(told) == 2


def test_u2_a_line_on_which_something_moves_is_not_called_silent() -> None:
    told: list[str] = []
    watch = Watch("harbour", told.append, silence=0.6)
    with watch.waiting():
        for _ in range(6):
            time.sleep(0.25)
            watch.moved()
    assert not told
