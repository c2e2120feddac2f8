"""Stands in for the interpreter of a helper: `zygote_client.py [--files 5,7] SOCKET MODULE WORDS`.

MODULE is `-c` for a piece of code. files: what the helper inherits beside its output. Imports as little as it can.
"""

import json
import os
import signal
import socket
import sys

given = sys.argv[1:]
files = [int(one) for one in given[1].split(",")] if given[0] == "--files" else []
path, module, *words = given[2:] if files else given
asked = socket.socket(socket.AF_UNIX)
asked.connect(path)
order = {
    "module": module,
    "words": words,
    "cwd": os.getcwd(),  # noqa: PTH109
    "env": dict(os.environ),
    "session": os.getsid(0) == os.getpid(),
    "numbers": [0, 1, 2, *files],
}
socket.send_fds(asked, [json.dumps(order).encode()], [0, 1, 2, *files])
# what is sent to this process is meant for the helper; when this one is killed, the helper is too
for number in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP):
    signal.signal(number, lambda given, _: asked.sendall(f" {int(given)}".encode()))
for number in (0, 1, *files):
    os.close(number)
while True:
    try:
        said = asked.recv(64)
        break
    except InterruptedError:
        continue
code = int(said) if said else 1
if code < 0:
    signal.signal(-code, signal.SIG_DFL) if -code not in (signal.SIGKILL, signal.SIGSTOP) else None
    os.kill(os.getpid(), -code)
os._exit(code)
