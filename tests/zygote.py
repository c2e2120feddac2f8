"""Helper processes of the tool without their start-up: forks of one process that has everything imported.

A helper is still a process of its own, with its own environment, folder and files, and with no past: it is forked from
a process that has only imported. `python zygote.py SOCKET` serves; `zygote_client.py` stands in for the interpreter.
Where a process cannot fork, helpers are started as usual.
"""

from __future__ import annotations

import contextlib
import importlib
import json
import os
import select
import signal
import socket
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, NoReturn

# which helpers are served, and who asks for them
SERVED = {
    "tidy_crate.core.bake.evaluate": "tidy_crate.core.bake.proof",
    "tidy_crate.practice.farm": "tidy_crate.practice.farm.control",
    "tidy_crate.core.picture.reader": "tidy_crate.core.picture.readers",
    "tidy_crate.core.crate.proving": "tidy_crate.core.crate.prove",
    "tidy_crate.core.scene.formats.usd.library": "tidy_crate.core.scene.formats.usd.library",
}
IMPORTED = (
    "numpy", "pxr.Usd", "pxr.UsdGeom", "pxr.UsdRender", "pxr.UsdSkel", "pydantic", "uvicorn", "httptools",
    "uvicorn.protocols.http.httptools_impl", "uvicorn.lifespan.on", "asyncio",
    "fastapi", "sqlalchemy.orm", "OpenEXR", "PIL.Image",
    "tidy_crate.core.bake.evaluate", "tidy_crate.core.scene.formats.registry", "tidy_crate.core.scene.formats.usd.read",
    "tidy_crate.practice.farm.scheduler", "tidy_crate.practice.farm.service", "tidy_crate.core.picture.reader",
    "tidy_crate.core.picture.judge", "tidy_crate.core.scene.formats.usd.simulation.registry",
    "tidy_crate.core.scene.formats.usd.simulation.baker", "tidy_crate.core.crate.proving", "mujoco",
    "httpx", "rich.progress",
    "tidy_crate.core.scene.formats.usd.library", "tidy_crate.practice.farm.node", "tidy_crate.practice.render.renderer",
)  # fmt: skip
SOCKET = "TIDY_CRATE_TESTS_ZYGOTE"
CLIENT = Path(__file__).with_name("zygote_client.py")


@contextmanager
def served() -> Iterator[None]:
    """Serve helpers of this process, and of those that it starts, for as long as the block runs."""
    if not hasattr(os, "fork") or not hasattr(socket, "send_fds"):
        yield
        return
    with tempfile.TemporaryDirectory() as folder:
        path = str(Path(folder) / "s")
        process = subprocess.Popen([sys.executable, __file__, path], stdout=subprocess.PIPE, text=True)
        assert process.stdout is not None and process.stdout.readline() == "ready\n"
        os.environ[SOCKET] = path
        stand_in()
        try:
            yield
        finally:
            del os.environ[SOCKET]
            process.kill()
            process.communicate()


def stand_in() -> None:
    """Let this process ask for served helpers."""
    path = os.environ.get(SOCKET)
    if not path:
        return
    from tidy_crate.core.process import own_helper

    def helper(module: str, *words: str) -> tuple[list[str], dict[str, str]]:
        line, environment = own_helper(module, *words)
        # another package's modules are not imported there
        if module not in SERVED or not Path(path).exists() or "PYTHONPATH" in os.environ:
            return line, environment
        return [sys.executable, "-I", "-S", str(CLIENT), path, module, *words], environment

    for asking in SERVED.values():
        importlib.import_module(asking).own_helper = helper  # type: ignore[attr-defined]


def serve(path: str) -> None:
    """Fork a helper for each connection, and end it when the connection is closed from the other side."""
    for name in IMPORTED:
        with contextlib.suppress(ImportError):
            importlib.import_module(name)
    listening = socket.socket(socket.AF_UNIX)
    listening.bind(path)
    listening.listen(64)
    sys.stdout.write("ready\n")
    sys.stdout.flush()
    parent = os.getppid()
    wake, woken = os.pipe()
    os.set_blocking(woken, False)
    signal.set_wakeup_fd(woken)
    signal.signal(signal.SIGCHLD, lambda *_: None)
    children: dict[int, socket.socket] = {}
    while os.getppid() == parent:
        ready, _, _ = select.select([listening, wake, *children.values()], [], [], 1.0)
        if wake in ready:
            os.read(wake, 4096)
        for pid in list(children):
            ended, status = os.waitpid(pid, os.WNOHANG)
            if ended:
                asked = children.pop(pid)
                with contextlib.suppress(OSError):
                    asked.sendall(str(os.waitstatus_to_exitcode(status)).encode())
                asked.close()
            elif children[pid] in ready:
                try:
                    said = children[pid].recv(64)
                except OSError:
                    said = b""
                with contextlib.suppress(ProcessLookupError):
                    os.kill(pid, signal.SIGKILL if not said else int(said.split()[-1]))
        if listening in ready:
            asked, _ = listening.accept()
            try:
                told, files, _, _ = socket.recv_fds(asked, 1 << 20, 16)
                json.loads(told)
            except (OSError, ValueError):
                asked.close()
                continue
            pid = os.fork()
            if pid == 0:
                signal.set_wakeup_fd(-1)
                signal.signal(signal.SIGCHLD, signal.SIG_DFL)
                for one in (listening, *children.values(), asked):
                    one.close()
                os.close(wake)
                os.close(woken)
                be(json.loads(told), files)
            for one in files:
                os.close(one)
            children[pid] = asked


def be(order: dict[str, Any], files: list[int]) -> NoReturn:
    """Become the helper."""
    import fcntl
    import runpy

    from tidy_crate.cli.apart import run_and_end

    def run() -> None:
        # first out of the way: one may stand where another belongs
        held = [fcntl.fcntl(file, fcntl.F_DUPFD, 256) for file in files]
        for file in files:
            os.close(file)
        for number, file in zip(order["numbers"], held, strict=True):
            os.dup2(file, number)
            os.close(file)
        os.chdir(order["cwd"])
        os.environ.clear()
        os.environ.update(order["env"])
        # its parent is this process, and not the one that asked for it
        os.environ.pop("TIDY_CRATE_STARTED_BY", None)
        if order["session"]:
            os.setsid()
        sys.stdin, sys.stdout = open(0, closefd=False), open(1, "w", closefd=False)  # noqa: SIM115
        sys.stderr = open(2, "w", errors="backslashreplace", closefd=False)  # noqa: SIM115
        sys.argv = [order["module"], *order["words"]]
        if order["module"] == "-c":
            sys.argv = ["-c", *order["words"][1:]]
            exec(order["words"][0], {"__name__": "__main__"})
            return
        if order["module"] == "tidy_crate.practice.farm":
            nodes_from(order["env"][SOCKET])
        runpy.run_module(order["module"], run_name="__main__", alter_sys=True)

    run_and_end(run)


def nodes_from(path: str) -> None:
    """Let the nodes of the farm that this process is be forks too. They are processes of its pool, as everywhere."""
    from multiprocessing import util

    start = util.spawnv_passfds

    def start_node(interpreter: bytes, line: list[str], files: list[int]) -> int:
        at = line.index("-c")
        if "spawn_main" not in line[at + 1] or not Path(path).exists():
            return start(interpreter, line, files)
        client = [sys.executable, "-I", "-S", str(CLIENT), "--files", ",".join(map(str, files)), path]
        # the code and its one word, as an interpreter would be given them
        return start(os.fsencode(sys.executable), [*client, "-c", *line[at + 1 :]], files)

    util.spawnv_passfds = start_node


if __name__ == "__main__":
    serve(sys.argv[1])
