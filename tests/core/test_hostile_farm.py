"""X4: whatever a farm answers over a real socket, the answer is bounded in size and time, and one clear error."""

from __future__ import annotations

import contextlib
import gzip
import json
import socket
import threading
import time
import tracemalloc
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from email.utils import format_datetime
from pathlib import Path
from typing import Any

import pytest
from pydantic import ValidationError

from tidy_crate.core.errors import FarmBusy, FarmError
from tidy_crate.core.farm.links import exchange
from tidy_crate.core.farm.links.http import HttpFarm
from tidy_crate.core.farm.protocol import VERSION, Account, Capability, Changes, Hello, JobSummary
from tidy_crate.core.job.outage import LONGEST, Outage
from tidy_crate.core.work.attempt import Attempt, Product

HELLO = {"protocol": VERSION, "oldest": VERSION, "farm": "f", "offers": list(Capability)}
ACCOUNT = {"user": "a", "balance": "1.50", "currency": "EUR"}
TOKEN = "a-secret-token"


def head(code: str = "200 OK", *lines: str) -> bytes:
    return "\r\n".join([f"HTTP/1.1 {code}", *lines, "Connection: close", "", ""]).encode()


def whole(body: bytes, code: str = "200 OK", *lines: str) -> bytes:
    return head(code, f"Content-Length: {len(body)}", *lines) + body


def endless(first: bytes, more: bytes = b"x" * 65536) -> Iterator[bytes]:
    yield first
    while True:
        yield more


def slowly(data: bytes, pause: float = 0.02) -> Iterator[bytes]:
    for at in range(len(data)):
        yield data[at : at + 1]
        time.sleep(pause)


@contextmanager
def farm(answer: Callable[[bytes], Any], hello: bytes | None = None) -> Iterator[HttpFarm]:
    """A farm that answers what it likes to every request but the first greeting."""
    server = socket.create_server(("127.0.0.1", 0))
    server.settimeout(20)

    def serve(connection: socket.socket) -> None:
        with connection:
            connection.settimeout(20)
            data = b""
            while b"\r\n\r\n" not in data:
                got = connection.recv(65536)
                if not got:
                    return
                data += got
            greeting = whole(json.dumps(HELLO).encode()) if hello is None else hello
            said = greeting if b"/hello" in data.split(b"\r\n")[0] else answer(data)
            for piece in [said] if isinstance(said, bytes) else said:
                try:
                    connection.sendall(piece)
                except OSError:
                    return

    def accept() -> None:
        while True:
            try:
                connection, _ = server.accept()
            except OSError:
                return
            threading.Thread(target=serve, args=(connection,), daemon=True).start()

    threading.Thread(target=accept, daemon=True).start()
    link = HttpFarm("harbour", f"http://127.0.0.1:{server.getsockname()[1]}", TOKEN, patience=0)
    try:
        yield link
    finally:
        link.close()
        server.close()


@pytest.fixture(autouse=True)
def short(monkeypatch: pytest.MonkeyPatch) -> None:
    """The same limits, sooner."""
    monkeypatch.setattr(exchange, "MOST_ANSWER", 4 << 20)
    monkeypatch.setattr(exchange, "SECONDS_ANSWER", 2.0)
    monkeypatch.setattr(exchange, "PATIENCE_WITH_SLOW", 0.5)
    monkeypatch.setattr(exchange, "ATTEMPTS", 2)


BOMB = gzip.compress(bytes(50_000_000))
ANSWERS: dict[str, tuple[Callable[[bytes], Any], str]] = {
    "endless": (lambda _: endless(head()), "larger than 4 MiB"),
    "endless by pieces": (
        lambda _: endless(head("200 OK", "Transfer-Encoding: chunked"), b"10000\r\n" + b"x" * 65536 + b"\r\n"),
        "larger than 4 MiB",
    ),
    "large error": (lambda _: endless(head("500 No")), r"\(500 xxx"),
    "large refusal": (lambda _: endless(head("404 No")), "refuses"),
    "endless header": (lambda _: endless(b"HTTP/1.1 200 OK\r\nX: "), "cannot be reached"),
    "bomb": (lambda _: whole(BOMB, "200 OK", "Content-Encoding: gzip"), "compresses"),
    "deep": (lambda _: whole(b"[" * 100_000), "makes no sense"),
    "deep error": (lambda _: whole(b'{"detail":' * 5000, "400 No"), "refuses"),
    "slow body": (lambda _: slowly(head() + b"{" + b" " * 5000), "takes longer than|fewer|less than 64 bytes a second"),
    "slow header": (lambda _: slowly(b"HTTP/1.1 200 OK\r\nX: " + b"y" * 5000), "less than 64 bytes a second"),
    "echo": (lambda request: whole(request, "400 " + TOKEN), r"refuses"),
    "redirect": (lambda _: head("302 Over there", "Location: http://127.0.0.1:9/"), "another address"),
    "no http": (lambda _: b"SSH-2.0-farm\r\n", "cannot be reached"),
    "nothing": (lambda _: b"", "cannot be reached"),
    "wrong length": (lambda _: whole(b"{}", "200 OK", "Content-Length: 77"), "cannot be reached"),
    "not utf-8": (lambda _: whole(b'{"user": "\xff"}'), "makes no sense"),
}


@pytest.mark.parametrize("name", ANSWERS)
def test_an_answer_is_bounded_and_told_in_one_error(name: str) -> None:
    answer, message = ANSWERS[name]
    tracemalloc.start()
    began = time.monotonic()
    with farm(answer) as link, pytest.raises(FarmError, match=message) as caught:
        link.account()
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert time.monotonic() - began < 12 and peak < 100 << 20
    text = f"{caught.value} {caught.value.remedy}"
    assert TOKEN not in text and len(text) < 1000 and text.isprintable()


def test_a_download_ends_at_its_size_and_is_never_unpacked(tmp_path: Path) -> None:
    product = Product(output="o", key="k", bytes=3000, blake3="0" * 64)
    with farm(lambda _: endless(head())) as link:
        link.fetch("1", product, tmp_path / "f", 0, lambda _: None)
    assert (tmp_path / "f").stat().st_size == 3000
    with farm(lambda _: whole(BOMB, "200 OK", "Content-Encoding: gzip")) as link, pytest.raises(FarmError):
        link.fetch("1", product, tmp_path / "g", 0, lambda _: None)
    assert not (tmp_path / "g").exists()
    with farm(lambda _: slowly(head() + b"x" * 3000)) as link, pytest.raises(FarmBusy, match="less than 64 bytes"):
        link.fetch("1", product, tmp_path / "h", 0, lambda _: None)


def test_a_stream_of_events_that_says_nothing_ends_in_time_and_a_log_is_cut() -> None:
    with farm(lambda _: endless(head())) as link:
        began = time.monotonic()
        link.wait("1", "", 0.3)
        assert 0.2 < time.monotonic() - began < 3
        assert len(link.log("1", "l")) == 4 << 20 or len(link.log("1", "l")) <= 4 << 20


def test_retry_after_is_obeyed_and_a_long_one_is_told(monkeypatch: pytest.MonkeyPatch) -> None:
    asked: list[float] = []

    def answer(_: bytes) -> bytes:
        asked.append(time.monotonic())
        if len(asked) == 1:
            return head("503 Busy", "Retry-After: 1")
        return whole(json.dumps(ACCOUNT).encode())

    with farm(answer) as link:
        assert link.account().balance == Decimal("1.50")
    assert 0.9 < asked[1] - asked[0] < 5
    later = format_datetime(datetime.now(UTC) + timedelta(seconds=600), usegmt=True)
    for text in ("600", later):
        with farm(lambda _, text=text: head("429 Slow down", f"Retry-After: {text}")) as link:  # type: ignore[misc]
            began = time.monotonic()
            with pytest.raises(FarmBusy, match="429") as caught:
                link.account()
        assert time.monotonic() - began < 2 and 590 < (caught.value.after or 0) <= 600
        assert "left alone for" in (caught.value.remedy or "")


def test_following_outlives_an_outage_says_so_and_gives_up_in_the_end() -> None:
    now, told = [0.0], []
    outage = Outage(told.append, lambda s: now.__setitem__(0, now[0] + s), lambda: now[0])
    for _ in range(10):
        outage.wait(FarmBusy("the farm answers with an error (503)", "harbour"))
    assert now[0] == 50 and told[0] == "harbour: the farm answers with an error (503); trying again in 5 s"
    outage.wait(FarmBusy("busy", "harbour", after=120))
    assert now[0] == 170
    outage.over()
    with pytest.raises(FarmBusy):
        while True:
            outage.wait(FarmBusy("busy", "harbour"))
    assert LONGEST - 20 < now[0] - 170 <= LONGEST


SUMMARY = {"job": "j", "state": "done", "submitted": "2026-01-01T00:00:00Z", "now": "2026-01-01T00:00:00Z",
           "cost": "1", "currency": "EUR", "counts": {}, "cursor": "c"}  # fmt: skip
ATTEMPT = {"number": 1, "state": "done", "cost": "1"}


@pytest.mark.parametrize(
    ("kind", "good", "key", "value"),
    [
        *((Account, ACCOUNT, "balance", value) for value in ("NaN", "Infinity", "1e400", "1e-400", "9" * 20, 1e300)),
        *((Account, ACCOUNT, "user", value) for value in ("", "\x1b[2J", "a\u202eb", "x" * 201, "\n")),
        *((JobSummary, SUMMARY, "cost", value) for value in ("-Infinity", "sNaN", "1e99999999")),
        *((JobSummary, SUMMARY, "counts", {"done": value}) for value in (2**31, -1, 1e30)),
        (JobSummary, SUMMARY, "job", "j\x07"),
        *((Attempt, ATTEMPT, "billed", value) for value in ("Infinity", float("inf"), -1)),
        *((Attempt, ATTEMPT, "number", value) for value in (-1, 10**9, 2**70)),
        (Attempt, ATTEMPT, "node", "n\x9b"),
        (Attempt, ATTEMPT, "error", "x" * 200_001),
        (Product, {"output": "o", "key": "k", "bytes": 1, "blake3": "0" * 64}, "bytes", 2**63),
        (Hello, HELLO, "farm", "\x1b]0;x\x07"),
        (Changes, {"cursor": "c", "more": False}, "cursor", "c" * 201),
    ],
)  # fmt: skip
def test_what_a_farm_says_is_finite_printable_and_fits_the_ledger(
    kind: Any, good: dict[str, Any], key: str, value: Any
) -> None:
    kind.model_validate_json(json.dumps(good))
    with pytest.raises(ValidationError):
        kind.model_validate_json(json.dumps(good | {key: value}))


def test_a_certificate_that_does_not_match_is_told_at_once(tmp_path: Path) -> None:
    import ssl
    from datetime import UTC, datetime, timedelta

    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import ec

    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "another.invalid")])
    now = datetime.now(UTC)
    certificate = (
        x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key()).serial_number(7)
        .not_valid_before(now - timedelta(days=1)).not_valid_after(now + timedelta(days=1)).sign(key, hashes.SHA256())
    )  # fmt: skip
    pem = tmp_path / "server.pem"
    pem.write_bytes(
        key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
        + certificate.public_bytes(serialization.Encoding.PEM)
    )
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(pem)
    with socket.create_server(("127.0.0.1", 0)) as listening:
        asked = 0

        def serve() -> None:
            nonlocal asked
            while True:
                try:
                    with contextlib.suppress(ssl.SSLError, ConnectionError):
                        caller = listening.accept()[0]
                        asked += 1
                        context.wrap_socket(caller, server_side=True).close()
                except OSError:
                    return

        threading.Thread(target=serve, daemon=True).start()
        url = f"https://127.0.0.1:{listening.getsockname()[1]}"
        with pytest.raises(FarmError, match="certificate is not valid") as caught:
            HttpFarm("f", url, "a-secret-token", patience=0).account()
        assert not isinstance(caught.value, FarmBusy) and asked == 1


@pytest.mark.parametrize("cost", ["-1", "NaN", "Infinity", 1e300])
def test_a_bill_below_nothing_or_no_number_is_refused(cost: object) -> None:
    summary = {
        "job": "1", "state": "done", "submitted": "2026-11-20T08:00:00Z", "now": "2026-11-20T08:00:00Z", "cost": cost,
        "currency": "EUR", "counts": {}, "cursor": "1",
    }  # fmt: skip
    with pytest.raises(ValidationError):
        JobSummary.model_validate(summary)
    assert JobSummary.model_validate(summary | {"cost": "1.5"}).cost == Decimal("1.5")
