"""An SFTP server as a place. Its host key must be known, and is never learned unasked."""

from __future__ import annotations

import stat
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext, suppress
from pathlib import Path
from threading import RLock, local
from typing import Any
from urllib.parse import unquote, urlsplit

import paramiko
from fsspec.implementations.sftp import SFTPFileSystem

from tidy_crate.core.errors import FarmBusy, FarmError
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.drop.place import OTHER, Place, _said
from tidy_crate.core.farm.links.interface import Moved
from tidy_crate.core.farm.links.registry import Token
from tidy_crate.core.farm.links.watch import watch_for

SECONDS = 30.0
# bytes that are on their way at a time: what a line of 100 MB/s over 50 ms holds
AHEAD = 6 << 20
# bytes of a request: what every server must take, and what OpenSSH takes (its limit of a message, less the header)
REQUEST, LARGE_REQUEST = 32 << 10, 255 << 10
# these encrypt and sign in one pass, in a third of the time of a cipher with a digest beside it
FAST_CIPHERS = ("aes128-gcm@openssh.com", "aes256-gcm@openssh.com")


class _Strict(SFTPFileSystem):  # type: ignore[misc]
    """The library's file system, which would take any host key at the first contact."""

    cachable = False

    @staticmethod
    def _decode_stat(found: Any, parent_path: str | None = None) -> dict[str, Any]:
        """Return what is known of a file. The library takes pipes and devices for files."""
        told: dict[str, Any] = SFTPFileSystem._decode_stat(found, parent_path)
        kinds = (stat.S_ISREG, stat.S_ISDIR, stat.S_ISLNK)
        odd = found.st_mode is not None and not any(is_one(found.st_mode) for is_one in kinds)
        return {**told, "type": OTHER} if odd else told

    def _connect(self) -> None:
        client = paramiko.SSHClient()
        for file in self.ssh_kwargs.pop("known_hosts"):
            client.load_host_keys(str(file))
        client.set_missing_host_key_policy(paramiko.RejectPolicy())
        client.connect(self.host, transport_factory=_transport, **self.ssh_kwargs)
        transport = client.get_transport()
        assert transport is not None
        self.client, self.ftp = client, _channel(transport)
        self.request = LARGE_REQUEST if "OpenSSH" in transport.remote_version else REQUEST


def _transport(sock: Any, **more: Any) -> paramiko.Transport:
    """Make a connection that prefers the fast ciphers."""
    transport = paramiko.Transport(sock, **more)
    options = transport.get_security_options()
    known = tuple(options.ciphers)
    fast = tuple(name for name in FAST_CIPHERS if name in known)
    options.ciphers = (*fast, *(name for name in known if name not in fast))
    return transport


def _channel(transport: paramiko.Transport) -> paramiko.SFTPClient:
    """Open a channel for files on a connection."""
    found = paramiko.SFTPClient.from_transport(transport, window_size=AHEAD)
    channel = found.get_channel() if found is not None else None
    assert found is not None and channel is not None
    # a server that says nothing any more must not keep us for ever
    channel.settimeout(SECONDS)
    return found


class SftpPlace(Place):
    """A folder on an SFTP server. A channel serves one thread at a time: only files that are fetched have some."""

    def __init__(self, *words: Any) -> None:
        super().__init__(*words)
        self._one = RLock()
        self._own = local()
        self.step = self.fs.request

    def close(self) -> None:
        """Close the connection."""
        self.fs.client.close()

    def fetch(self, path: str, target: Path, offset: int, size: int, moved: Moved) -> None:
        """See Place.fetch. Threads that fetch have a channel each: they do not wait for each other's answers."""
        with (
            self._translated(f"{path} cannot be fetched from the place"),
            nullcontext() if self._has_channel() else self._one,
            self._opened(path) as source,
            target.open("ab" if offset else "wb") as out,
        ):
            self._append(source, out, offset, size, moved)

    def _opened(self, path: str) -> Any:
        channel = self._own.channel if self._has_channel() else self.fs.ftp
        return channel.open(self.at(path), "rb")

    def _has_channel(self) -> bool:
        """Return whether this thread has a channel of its own. A server may allow a connection no more of them."""
        if not hasattr(self._own, "channel"):
            self._own.channel = None
            # one at a time: the library keeps one reason for all channels that are refused meanwhile
            with self._one, suppress(paramiko.ChannelException):
                self._own.channel = _channel(self.fs.client.get_transport())
        return self._own.channel is not None

    def _write_ahead(self, stream: Any) -> None:
        stream.MAX_REQUEST_SIZE = self.fs.request
        stream.set_pipelined(True)

    def _read_ahead(self, stream: Any, size: int) -> None:
        # of what was promised, and not of what the server says now
        stream.MAX_REQUEST_SIZE = self.fs.request
        stream.prefetch(size, max(2, AHEAD // self.fs.request))

    @contextmanager
    def _told(self, what: str) -> Iterator[None]:
        with self._one, self._translated(what):
            yield

    @contextmanager
    def _translated(self, what: str) -> Iterator[None]:
        try:
            with super()._told(what):
                yield
        except paramiko.SSHException as error:
            raise FarmBusy(f"{what} ({_said(error)})", self.url, "run the command again") from error


def open_sftp(card: FarmCard, token: Token) -> SftpPlace:
    """Connect. Raises FarmError for a host key that is unknown or has changed, and where the sign-in is refused."""
    parts = urlsplit(card.url)
    host, port = parts.hostname or "", parts.port or 22
    known = _known_hosts(card)
    words: dict[str, Any] = {
        "port": port, "known_hosts": known, "timeout": SECONDS, "banner_timeout": SECONDS, "auth_timeout": SECONDS,
        "look_for_keys": False, "allow_agent": not card.place.key_file and not card.place.password,
    }  # fmt: skip
    if card.place.user:
        words["username"] = card.place.user
    if card.place.key_file:
        words["key_filename"] = str(Path(card.place.key_file).expanduser())
        if card.place.key_password:
            words["passphrase"] = token()
    elif card.place.password:
        words["password"] = token()
    try:
        fs = _Strict(host, **words)
    except paramiko.BadHostKeyException as error:
        what = "the host key of the server has changed: it may be another machine that poses as it"
        remedy = "ask whose server it is; only if the change is confirmed, replace its line in the known_hosts file"
        raise FarmError(what, f"{host}:{port}", remedy) from error
    except paramiko.AuthenticationException as error:
        remedy = "correct user, key_file or password below [place] on the card"
        raise FarmError("the server does not let this user in", f"{host}:{port}", remedy) from error
    except paramiko.SSHException as error:
        if "not found in known_hosts" in str(error):
            files = ", ".join(map(str, known)) or "none"
            remedy = f"add its host key to a known_hosts file (known here: {files}), as `ssh-keyscan` prints it"
            raise FarmError("the host key of the server is not known", f"{host}:{port}", remedy) from error
        raise FarmBusy(f"the server cannot be reached ({_said(error)})", f"{host}:{port}", "run it again") from error
    except (OSError, EOFError) as error:
        what = f"the server cannot be reached ({_said(error)})"
        raise FarmBusy(what, f"{host}:{port}", "check the address and that the server runs") from error
    place = SftpPlace(fs, unquote(parts.path) or "/", card.name, card.url)
    place.watch = watch_for(card.name, token)
    return place


def _known_hosts(card: FarmCard) -> list[Path]:
    own = (
        Path(card.place.known_hosts).expanduser() if card.place.known_hosts else Path("~/.ssh/known_hosts").expanduser()
    )
    return [own] if own.is_file() else []
