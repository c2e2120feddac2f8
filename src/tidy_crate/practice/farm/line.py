"""Faults of the line between a farm and its users: switched on one by one, drawn by a seeded generator."""

from __future__ import annotations

import asyncio
import random
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import Any

from tidy_crate.practice.farm.settings import LINE_FAULTS, NEXT_TOKEN, FarmSettings

# what every operator of this farm may always do
_EXEMPT = ("/faults", "/shutdown", "/pay", "/repeated")
RETRY_AFTER = 1
# bytes of a body of JSON: a packing list of a million files
MOST_JSON = 256 << 20
Message = dict[str, Any]


class Line:
    """Faults that are switched on, and what they have done so far."""

    def __init__(self, folder: Path, settings: FarmSettings) -> None:
        self._folder = folder
        self._chance = random.Random(settings.seed)
        self.on: dict[str, float] = dict(settings.line_faults)
        self._asked = 0

    def switch(self, faults: dict[str, float]) -> None:
        """Switch these faults on, and off where their value is 0."""
        for kind, value in faults.items():
            if kind in LINE_FAULTS:
                self.on[kind] = value
                if not value:
                    del self.on[kind]

    @property
    def room(self) -> int | None:
        """Bytes of files that the disk holds, None for no limit."""
        return int(self.on["room"]) if "room" in self.on else None

    def token(self, usual: str) -> str:
        """The token that is accepted now."""
        fresh = self._folder / NEXT_TOKEN
        if "expire" in self.on and self._asked > self.on["expire"] and fresh.is_file():
            return fresh.read_text(encoding="utf-8").strip()
        return usual

    def fate(self) -> str:
        """Return the fault of the next request: drop, error, busy, or an empty text for none."""
        self._asked += 1
        for kind in ("drop", "error", "busy"):
            if kind in self.on and self._chance.random() < self.on[kind]:
                return kind
        return ""

    def share(self) -> float:
        """After which share of an answer its connection breaks off."""
        return self._chance.random()


class Bounded:
    """ASGI middleware that refuses a body of JSON without end. Blobs and packs have limits of their own."""

    def __init__(self, app: Callable[..., Awaitable[None]], most: int = MOST_JSON) -> None:
        self._app, self._most = app, most

    async def __call__(self, scope: Message, receive: Callable[[], Awaitable[Message]], send: Any) -> None:
        """See the ASGI specification."""
        if scope["type"] != "http" or scope["method"] == "PUT" or scope["path"] == "/v3/packs":
            await self._app(scope, receive, send)
            return
        # a body is small, or it is refused before any of it is parsed
        parts: list[bytes] = []
        size = 0
        more = True
        while more:
            message = await receive()
            if message["type"] != "http.request":
                return
            size += len(message.get("body", b""))
            if size > self._most:
                head = [(b"content-type", b"application/json"), (b"connection", b"close")]
                await send({"type": "http.response.start", "status": 413, "headers": head})
                await send({"type": "http.response.body", "body": b'{"detail": "the body is too large"}'})
                return
            parts.append(message.get("body", b""))
            more = message.get("more_body", False)
        whole = [{"type": "http.request", "body": b"".join(parts), "more_body": False}]

        async def again() -> Message:
            return whole.pop() if whole else await receive()

        await self._app(scope, again, send)


class Faulty:
    """ASGI middleware that lets requests meet the faults of the line."""

    def __init__(self, app: Callable[..., Awaitable[None]], line: Line) -> None:
        self._app, self._line = app, line

    async def __call__(self, scope: Message, receive: Callable[[], Awaitable[Message]], send: Any) -> None:
        """See the ASGI specification."""
        if scope["type"] != "http" or scope["path"] in _EXEMPT or not self._line.on:
            await self._app(scope, receive, send)
            return
        fate = self._line.fate()
        if fate in ("error", "busy"):
            code = 500 if fate == "error" else 429
            extra = [(b"retry-after", str(RETRY_AFTER).encode())] if fate == "busy" else []
            head = [(b"content-type", b"application/json"), (b"connection", b"close"), *extra]
            await send({"type": "http.response.start", "status": code, "headers": head})
            await send({"type": "http.response.body", "body": b'{"detail": "a fault of the line"}'})
            return
        if fate == "drop" and self._line.share() < 0.5:
            # before anything was done
            raise ConnectionError("a fault of the line")
        await self._app(scope, receive, self._slowed(send, drops=fate == "drop"))

    def _slowed(self, send: Any, *, drops: bool) -> Callable[[Message], Awaitable[None]]:
        left = 64 << 10 if drops else -1

        async def each(message: Message) -> None:
            nonlocal left
            body = message.get("body", b"")
            if drops and message["type"] == "http.response.body":
                if len(body) >= left or not message.get("more_body", False):
                    # after it was done: the answer is lost on its way
                    await send({**message, "body": body[: len(body) // 2], "more_body": True})
                    raise ConnectionError("a fault of the line")
                left -= len(body)
            pace = self._line.on.get("slow")
            if pace and body:
                await asyncio.sleep(len(body) / pace)
            await send(message)

        return each
