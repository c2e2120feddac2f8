"""Ports for servers that tests start."""

from __future__ import annotations

import random
import socket
import subprocess
import time

_BELOW_EPHEMERAL = range(20_000, 32_000)


def free_port() -> int:
    """Return a free port on loopback.

    It is outside the range from which systems number outgoing connections. Otherwise, one of those could take it
    before the server does.
    """
    while True:
        port = random.choice(_BELOW_EPHEMERAL)
        with socket.socket() as trying:
            try:
                trying.bind(("127.0.0.1", port))
            except OSError:
                continue
            return port


def wait_for(port: int, process: subprocess.Popen[bytes], seconds: float = 60) -> None:
    """Wait until a server answers. Fail as soon as its process has ended."""
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        assert process.poll() is None, f"the server has ended with {process.returncode}"
        with socket.socket() as probing:
            if probing.connect_ex(("127.0.0.1", port)) == 0:
                return
        time.sleep(0.05)
    raise AssertionError("the server does not answer")
