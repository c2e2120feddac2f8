"""Real servers on loopback that tests start, and a line between a client and a server that breaks at a chosen byte."""

from __future__ import annotations

import contextlib
import shutil
import socket
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from ports import free_port, wait_for

SSHD = shutil.which("sshd") or ("/usr/sbin/sshd" if Path("/usr/sbin/sshd").is_file() else None)


@contextmanager
def ssh_server(folder: Path, more: str = "") -> Iterator[int]:
    """Run a real OpenSSH server with its own keys and configuration. Yield its port; keys are in the folder.

    more: lines for its configuration.
    """
    assert SSHD is not None
    for name in ("host", "user", "other"):
        subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(folder / name)], check=True)
    (folder / "authorized").write_text((folder / "user.pub").read_text())
    port = free_port()
    know(folder, port)
    (folder / "config").write_text(
        f"Port {port}\nListenAddress 127.0.0.1\nHostKey {folder}/host\nAuthorizedKeysFile {folder}/authorized\n"
        f"PidFile {folder}/pid\nStrictModes no\nUsePAM no\nPasswordAuthentication no\n"
        f"Subsystem sftp internal-sftp\n{more}"
    )
    with contextlib.suppress(PermissionError):
        Path("/run/sshd").mkdir(exist_ok=True)
    process = subprocess.Popen([SSHD, "-D", "-e", "-f", str(folder / "config")], stderr=subprocess.DEVNULL)
    try:
        wait_for(port, process)
        yield port
    finally:
        process.terminate()
        process.wait()


def know(folder: Path, port: int) -> None:
    """Note the server's host key for a port, and another key as if it had changed."""
    for name, file in (("host", "known_hosts"), ("other", "changed_hosts")):
        kind, key = (folder / f"{name}.pub").read_text().split()[:2]
        (folder / file).write_text(f"[127.0.0.1]:{port} {kind} {key}\n")


@contextmanager
def s3_server() -> Iterator[str]:
    """Run an S3 service. Yield its address."""
    port = free_port()
    line = [sys.executable, "-c", f"from moto.server import main; main(['-H', '127.0.0.1', '-p', '{port}'])"]
    process = subprocess.Popen(line, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        wait_for(port, process)
        yield f"http://127.0.0.1:{port}"
    finally:
        process.terminate()
        process.wait()


class Line:
    """A line to a server on loopback. up, down: bytes that went to the server and came from it."""

    def __init__(self, port: int) -> None:
        self._to = port
        self._server = socket.create_server(("127.0.0.1", 0), backlog=64)
        self.port = int(self._server.getsockname()[1])
        self._open: set[socket.socket] = set()
        self._lock = threading.Lock()
        self.clear()
        threading.Thread(target=self._serve, daemon=True).start()

    def clear(self) -> None:
        """Count from the beginning, and break no more."""
        self.up = self.down = 0
        self._limits: dict[str, int] = {}
        self._then: Callable[[], None] = lambda: None

    def break_at(self, up: int | None, down: int | None, then: Callable[[], None]) -> None:
        """Break all connections right after so many bytes in one direction, once, and do something at that moment."""
        self.clear()
        self._limits = {name: most for name, most in (("up", up), ("down", down)) if most is not None}
        self._then = then

    def close(self) -> None:
        """Take no more connections."""
        self._server.close()

    def _serve(self) -> None:
        while True:
            try:
                near, _ = self._server.accept()
            except OSError:
                return
            try:
                far = socket.create_connection(("127.0.0.1", self._to))
            except OSError:
                near.close()
                continue
            self._open |= {near, far}
            for one, other, name in ((near, far, "up"), (far, near, "down")):
                threading.Thread(target=self._pass, args=(one, other, name), daemon=True).start()

    def _pass(self, one: socket.socket, other: socket.socket, name: str) -> None:
        with contextlib.suppress(OSError):
            while data := one.recv(16384):
                with self._lock:
                    left = self._limits.get(name)
                    data = data if left is None else data[: max(0, left - getattr(self, name))]
                    setattr(self, name, getattr(self, name) + len(data))
                    over = left is not None and getattr(self, name) >= left
                    if over:
                        self._limits = {}
                if data:
                    other.sendall(data)
                if over:
                    self._then()
                    self._cut()
                    return
            other.shutdown(socket.SHUT_WR)

    def _cut(self) -> None:
        for one in list(self._open):
            with contextlib.suppress(OSError):
                one.shutdown(socket.SHUT_RDWR)
            one.close()
        self._open.clear()
