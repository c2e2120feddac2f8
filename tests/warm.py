"""A process that has everything imported, and forks for each command: the built program, without its start-up.

    python tests/warm.py

reads orders as JSON lines (`words`, `env`, `cwd`, `out`, `err`) and answers each with an exit code. Each command is a
process of its own with its own environment, folder and files for its output, as the program started by a shell is.
"""

from __future__ import annotations

import importlib
import json
import os
import sys

import zygote

MODULES = (
    "tidy_crate.cli.app", "tidy_crate.api", "tidy_crate.sending", "tidy_crate.estimating", "rich.table",
    "rich.progress",
    "httpx", "tidy_crate.core.job.ledger", "tidy_crate.core.job.send", "tidy_crate.core.job.retrieve",
    "tidy_crate.core.job.track", "tidy_crate.core.review.run", "tidy_crate.core.crate.collect",
    "tidy_crate.core.check.run", "tidy_crate.core.estimate.estimate", "tidy_crate.core.farm.links.http", "httpcore",
    "alembic.command", "matplotlib.figure", "matplotlib.backends.backend_agg", "PIL.Image", "rich.live",
    "tidy_crate.core.scene.formats.usd.read",
    "tidy_crate.core.scene.formats.registry", "numpy", "scipy.stats", "pxr.Usd", "pxr.UsdGeom", "pxr.UsdRender",
)  # fmt: skip


def serve() -> None:
    """Fork for each order until the input ends."""
    for name in MODULES:
        importlib.import_module(name)
    sys.stdout.write("ready\n")
    sys.stdout.flush()
    for line in sys.stdin:
        order = json.loads(line)
        child = os.fork()
        if child == 0:
            work(order)
        _, status = os.waitpid(child, 0)
        sys.stdout.write(f"{os.waitstatus_to_exitcode(status)}\n")
        sys.stdout.flush()


def work(order: dict) -> None:  # type: ignore[type-arg]
    """Become the program."""
    from tidy_crate.cli.apart import be_program

    def arrange() -> None:
        os.chdir(order["cwd"])
        for number, path, flags in (
            (0, os.devnull, os.O_RDONLY), (1, order["out"], os.O_WRONLY), (2, order["err"], os.O_WRONLY),
        ):  # fmt: skip
            file = os.open(path, flags)
            os.dup2(file, number)
            os.close(file)
        os.environ.clear()
        os.environ.update(order["env"])
        zygote.stand_in()
        coded = {"closefd": False, "encoding": order["encoding"]}
        sys.stdin = open(0, closefd=False)  # noqa: SIM115
        sys.stdout = open(1, "w", errors="strict", **coded)  # noqa: SIM115
        sys.stderr = open(2, "w", errors="backslashreplace", **coded)  # noqa: SIM115

    be_program(order["words"], arrange)


if __name__ == "__main__":
    serve()
