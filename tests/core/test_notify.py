"""Telling others: a real mail server and a real web server on loopback."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from typing import Any

import pytest

from farms import MemoryFarm, prepared
from ports import free_port
from tidy_crate.core.context.scene import SceneContext
from tidy_crate.core.context.user import MailSettings, NotifySettings
from tidy_crate.core.errors import FarmError, WrongUsage
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.job.ledger import Ledger
from tidy_crate.core.job.notify import (
    ID,
    OLDEST,
    SIGNATURE,
    TIMESTAMP,
    News,
    Notifier,
    send_hook,
    send_mail,
    signature,
)
from tidy_crate.core.job.send import send
from tidy_crate.core.job.track import track

SECRET = "hook-secret-that-is-long"
NEWS = News(job="quay-1", kind="done", text="quay-1 is rendered", details=("48 of 48 frames are rendered",))
CARD = FarmCard.model_validate(
    {"name": "f", "url": "https://f.invalid", "currency": "EUR", "rates_from": "2026-11-01", "practice": True,
     "operator": {"kind": "own"},
     "machine": [{"name": "m", "nodes": 2, "score": 100, "memory_gb": 8, "price_per_hour": 1}]}
)  # fmt: skip


class Receiver:
    """A web server that does what a receiver of hooks should do."""

    def __init__(self) -> None:
        self.bodies: list[bytes] = []
        self.seen: set[str] = set()
        self.answer = 204
        outer = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers["Content-Length"]))
                self.send_response(outer.judge(dict(self.headers), body))
                self.end_headers()

            def log_message(self, *words: Any) -> None: ...

        self.server = HTTPServer(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self.server.server_port}/hook"
        threading.Thread(target=self.server.serve_forever, daemon=True).start()

    def judge(self, headers: dict[str, str], body: bytes) -> int:
        """Accept what is signed, fresh, and new."""
        stamp, number = headers[TIMESTAMP], headers[ID]
        if headers[SIGNATURE] != signature(SECRET, stamp, number, body):
            return 401
        if abs(time.time() - int(stamp)) > OLDEST or number in self.seen:
            return 409
        self.seen.add(number)
        if self.answer == 204:
            self.bodies.append(body)
        return self.answer


@pytest.fixture
def receiver() -> Iterator[Receiver]:
    found = Receiver()
    yield found
    found.server.shutdown()


def test_t7_a_hook_is_signed_fresh_and_cannot_be_replayed(receiver: Receiver) -> None:
    send_hook(NEWS, receiver.url, SECRET, time.time())
    assert News.model_validate_json(receiver.bodies[0]) == NEWS
    with pytest.raises(FarmError, match="answers with 401"):
        send_hook(NEWS, receiver.url, "another-secret", time.time())
    with pytest.raises(FarmError, match="answers with 409"):
        send_hook(NEWS, receiver.url, SECRET, time.time() - OLDEST - 5)
    body, stamp = receiver.bodies[0], str(int(time.time()))
    headers = {TIMESTAMP: stamp, ID: "abc", SIGNATURE: signature(SECRET, stamp, "abc", body)}
    assert [receiver.judge(headers, body), receiver.judge(headers, body)] == [204, 409]
    with pytest.raises(WrongUsage, match="not encrypted"):
        send_hook(NEWS, "http://hooks.invalid/x", SECRET, time.time())


def test_t7_mail_arrives_with_what_there_is_to_tell() -> None:
    controller = pytest.importorskip("aiosmtpd.controller")
    port = free_port()

    class Keeper:
        def __init__(self) -> None:
            self.got: list[Any] = []

        async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:
            self.got.append(envelope)
            return "250 taken"

    keeper = Keeper()
    server = controller.Controller(keeper, hostname="127.0.0.1", port=port)
    server.start()
    try:
        way = MailSettings(to=("wren@quay.invalid",), sender="farm@quay.invalid", server="127.0.0.1", port=port,
                           security="none")  # fmt: skip
        send_mail(NEWS, way, lambda _: SECRET)
    finally:
        server.stop()
    (envelope,) = keeper.got
    text = envelope.content.decode()
    assert envelope.rcpt_tos == ["wren@quay.invalid"] and "Subject: quay-1 is rendered" in text
    assert "48 of 48 frames" in text and SECRET not in text
    with pytest.raises(FarmError, match="could not be sent") as caught:
        send_mail(NEWS, way, lambda _: SECRET)
    assert SECRET not in str(caught.value)


@pytest.mark.parametrize(
    "change",
    [
        {"sender": "farm\nBcc: all@quay.invalid"}, {"to": ("wren\r\n@quay.invalid",)},
        {"server": "a" * 70 + ".invalid"},
        {"server": "quay..invalid"}, {"sender": "wr\u00e9n@quay.invalid"}, {"server": "127.0.0.1", "user": "wr\u00e9n"},
    ],
)  # fmt: skip
def test_t7_mail_that_cannot_be_made_is_one_clear_error(change: dict[str, Any]) -> None:
    way = {"to": ("wren@quay.invalid",), "sender": "farm@quay.invalid", "server": "127.0.0.1", "port": free_port()}
    with pytest.raises(FarmError, match="could not be sent") as caught:
        send_mail(NEWS, MailSettings(**way | {"security": "none"} | change), lambda _: SECRET)
    assert SECRET not in str(caught.value) and "\n" not in str(caught.value)


@pytest.mark.parametrize("url", ["https://[::1", "https://quay.invalid:port/x", "https://" + "a" * 70 + ".invalid/x"])
def test_t7_a_hook_that_is_no_address_is_one_clear_error(url: str) -> None:
    with pytest.raises((FarmError, WrongUsage)) as caught:
        send_hook(NEWS, url, SECRET, time.time())
    assert caught.value.remedy


def test_t7_each_piece_of_news_is_told_once_also_after_a_failure(
    packed: tuple[SceneContext, Path], receiver: Receiver, tmp_path: Path
) -> None:
    ledger, farm = Ledger(tmp_path / "ledger.sqlite"), MemoryFarm()
    sending = prepared(packed[1], CARD, frames="1001-1003")
    job = send(sending, CARD, Path("f"), farm.link(), ledger).job
    said: list[str] = []
    notifier = Notifier(NotifySettings(web_hook=receiver.url), lambda _: SECRET, said.append)
    receiver.answer = 500
    notifier.look(ledger, track(ledger, job, lambda _: farm.link()))
    assert said and "tried again" in said[0] and receiver.bodies == []
    receiver.answer = 204
    for _ in range(3):
        notifier.look(ledger, track(ledger, job, lambda _: farm.link()))
    assert [News.model_validate_json(body).text for body in receiver.bodies] == [f"{job} is rendered"]
    assert Ledger(tmp_path / "ledger.sqlite")
