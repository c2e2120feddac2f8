"""A scheduler of a site's own for tests: a folder, one node. `queue.py FOLDER add|show|remove|log …`."""

# ruff: noqa: T201

from __future__ import annotations

import os
import signal
import subprocess
import sys
from pathlib import Path

folder, do, words = Path(sys.argv[1]), sys.argv[2], sys.argv[3:]
if do == "add":
    number = 1 + len(list(folder.glob("*.job")))
    # a slot of the queue: batches run one after the other
    line = f"{words[-1]} > {folder}/{number}.log 2>&1; echo ended with $? >> {folder}/{number}.log"
    own = f"{folder}/{number}"
    lock = f"exec 9> {folder}/lock; flock 9; echo $$ > {own}.pid; {line}; rm {own}.pid {own}.job"
    (folder / f"{number}.job").write_text(" ".join(words))
    with (folder / "all").open("a") as out:
        out.write(" ".join(words) + "\n")
    subprocess.Popen(["sh", "-c", lock], start_new_session=True, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
                     stderr=subprocess.DEVNULL)  # fmt: skip
    print(f"batch {number} is queued")
elif do == "show":
    if not (folder / f"{words[0]}.job").exists():
        sys.exit("no such batch")
    print("running" if (folder / f"{words[0]}.pid").exists() else "waiting")
elif do == "remove":
    (folder / f"{words[0]}.job").unlink()
    if (folder / f"{words[0]}.pid").exists():
        os.killpg(int((folder / f"{words[0]}.pid").read_text()), signal.SIGTERM)
elif do == "log":
    print((folder / f"{words[0]}.log").read_text())
