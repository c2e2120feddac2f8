"""Run a program that ends with everything it has started: `python -I -S supervise.py PARENT REPORT PROGRAM WORD...`

It needs Python's standard library only. It is the program's parent, and on Linux also of what leaves the program's
family by a second fork (PR_SET_CHILD_SUBREAPER). When the program ends, when this process is told to end, or when the
process that started it ends, all of them are killed. It ends as the program did.

PARENT: number of the process that started it. REPORT: number of an open file, to which the number of the error is
written when the program cannot start. Source: the manual page prctl(2).
"""

from __future__ import annotations

import contextlib
import os
import signal
import sys
from typing import NoReturn

_SIGNAL_AT_PARENTS_END, _CHILD_SUBREAPER = 1, 36
# rounds of looking for processes: each one may have started others before it was stopped
_ROUNDS = 50


def end_with_parent(number: int = signal.SIGKILL, parent: int | None = None) -> bool:
    """Let the kernel send this process a signal when the thread that started it ends. Return whether it will.

    parent: number of the process that started it; when that has ended already, this process ends at once. Linux only.
    """
    if not sys.platform.startswith("linux") or not _control(_SIGNAL_AT_PARENTS_END, number):
        return False
    if parent is not None and os.getppid() != parent:
        os._exit(1)
    return True


def descendants(root: int) -> list[int]:
    """Return the processes below one, as /proc shows them."""
    children: dict[int, list[int]] = {}
    for name in os.listdir("/proc"):  # noqa: PTH208 - pathlib takes as long to import as all of this
        if not name.isdigit():
            continue
        with contextlib.suppress(OSError, ValueError, IndexError), open(f"/proc/{name}/stat", "rb") as stream:  # noqa: PTH123
            # the name of the program stands in brackets and may hold anything
            state, parent = stream.read().rpartition(b")")[2].split()[:2]
            if state != b"Z":
                children.setdefault(int(parent), []).append(int(name))
    found: list[int] = []
    left = [root]
    while left:
        below = children.get(left.pop(), [])
        found += below
        left += below
    return found


def end_descendants(root: int) -> None:
    """Kill all processes below one. Each round stops them first, so that none starts another meanwhile."""
    for _ in range(_ROUNDS):
        found = descendants(root)
        if not found:
            return
        for number in (signal.SIGSTOP, signal.SIGKILL):
            for one in found:
                with contextlib.suppress(OSError):
                    os.kill(one, number)
        with contextlib.suppress(OSError):
            while os.waitpid(-1, os.WNOHANG)[0]:
                pass


def _control(*words: int) -> bool:
    import ctypes

    try:
        return bool(ctypes.CDLL(None).prctl(*words, 0, 0, 0) == 0)
    except (OSError, AttributeError):
        return False


def supervise(parent: int, report: int, line: list[str]) -> int:
    """Run the program. Return how it ended, as waitpid(2) tells it."""

    def end(number: int, _: object) -> NoReturn:
        end_descendants(os.getpid())
        os._exit(128 + number)

    for number in (signal.SIGTERM, signal.SIGHUP, signal.SIGINT):
        signal.signal(number, end)
    _control(_CHILD_SUBREAPER, 1)
    end_with_parent(signal.SIGTERM, parent)
    # the program itself must not hold it open
    os.set_inheritable(report, False)
    try:
        # the interpreter ignores these two, and a program would inherit that
        defaults = [signal.SIGPIPE, signal.SIGXFSZ, signal.SIGTERM, signal.SIGHUP, signal.SIGINT]
        child = os.posix_spawnp(line[0], line, os.environ, setsigdef=defaults)
    except OSError as error:
        os.write(report, str(error.errno or 0).encode())
        return 127 << 8
    finally:
        os.close(report)
    while True:
        ended, status = os.waitpid(-1, 0)
        if ended == child:
            end_descendants(os.getpid())
            return status


def main() -> NoReturn:
    """Run the program of the command line, and end as it does."""
    status = supervise(int(sys.argv[1]), int(sys.argv[2]), sys.argv[3:])
    if os.WIFSIGNALED(status):
        number = os.WTERMSIG(status)
        import resource

        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
        with contextlib.suppress(OSError):
            signal.signal(number, signal.SIG_DFL)
        os.kill(os.getpid(), number)
    os._exit(os.waitstatus_to_exitcode(status) & 0xFF)


if __name__ == "__main__":
    main()
