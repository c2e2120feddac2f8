"""Runs a practice farm in the foreground: `python -m tidy_crate.practice.farm FOLDER [PORT]`."""

from __future__ import annotations

import os
import socket
import sys
from pathlib import Path

import uvicorn

from tidy_crate.core.files import write_json
from tidy_crate.practice.farm.control import RUNNING
from tidy_crate.practice.farm.scheduler import Scheduler
from tidy_crate.practice.farm.service import make_app
from tidy_crate.practice.farm.settings import load_settings, token_of, write_card
from tidy_crate.practice.farm.store import Store


def main() -> int:
    """Serve until told to stop."""
    folder, port = Path(sys.argv[1]).absolute(), int(sys.argv[2])
    settings = load_settings(folder)
    store = Store(folder / "farm.sqlite")
    listening = socket.create_server(("127.0.0.1", port))
    # the server only does so for sockets that it made itself; without it each small answer waits for 40 ms
    listening.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    url = f"http://127.0.0.1:{listening.getsockname()[1]}"

    def stop() -> None:
        server.should_exit = True

    scheduler = Scheduler(folder, store, settings, gone=stop)
    app = make_app(folder, settings, store, scheduler, token_of(folder), stop)
    server = uvicorn.Server(uvicorn.Config(app, log_level="warning", timeout_graceful_shutdown=3))
    scheduler.start()
    write_card(folder, settings, url)
    write_json(folder / RUNNING, {"pid": os.getpid(), "url": url})
    try:
        server.run(sockets=[listening])
    finally:
        scheduler.stop()
        store.close()
        (folder / RUNNING).unlink(missing_ok=True)
    return 0


if __name__ == "__main__":
    sys.exit(main())
