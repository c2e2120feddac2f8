"""Slurm as an engine: array jobs over the shared storage, by Slurm's own programs, here or on a login node.

A job's batches become one array. Sites limit array indices, 1,000 by default, so that an index is a row of a table on
the shared storage, and a row holds one batch or several:

    jobs/JOB/rows/TURN-MARK.json    [["batch-0-00000"], ["batch-0-00001"], …]
    jobs/JOB/engine/                what Slurm itself and the script on a node print

What `squeue` and `sinfo` say is read in the columns that we ask for: their JSON has other shapes in every release.
"""

from __future__ import annotations

import re
import shlex
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence

from tidy_crate.core.errors import FarmBusy, FarmError
from tidy_crate.core.farm.card import FarmCard
from tidy_crate.core.farm.links.cluster.interface import Batches
from tidy_crate.core.farm.links.cluster.shell import ProgramFailed, Shell
from tidy_crate.core.farm.links.cluster.storage import Storage

# options of sbatch that a card may give; what names files, programs or other users is not for a card to say
OPTIONS = frozenset(
    {
        "account", "constraint", "cpus-per-task", "exclude", "exclusive", "gres", "licenses", "mem", "nice", "nodelist",
        "partition", "qos", "reservation", "time", "tmp", "wckey",
    }
)  # fmt: skip
# indices of an array where the site does not say
USUAL_ARRAY = 1001
# what Slurm's programs say while the controller is away
AWAY = re.compile(r"unable to contact|socket timed out|connection refused|slurm controller|zero bytes", re.IGNORECASE)
# points of `nice` between two priorities of the card
NICE_STEP = 100
# a node that cannot do it is left out of the rest of the array, and its batch is submitted again without that node. A
# node that does not see the shared storage can tell it to Slurm only. Requeuing would bring it back to the same node
SCRIPT = """#!/bin/sh
leave_out() {
  echo "$SLURMD_NODENAME: $1"
  out=$( { scontrol show --oneliner job "$SLURM_JOB_ID" | sed -n 's/.* ExcNodeList=\\([^ ]*\\).*/\\1/p' |
    grep -v '(null)'; echo "$SLURMD_NODENAME"; } | sort -u | paste -sd, - )
  scontrol update JobId="$SLURM_ARRAY_JOB_ID" ExcNodeList="$out" >/dev/null 2>&1
  %(again)s --array="$SLURM_ARRAY_TASK_ID" --exclude="$out" <"$0"
  exit 3
}
[ -f %(program)s ] || leave_out "it does not see the shared storage"
%(line)s "$SLURM_ARRAY_TASK_ID" &
batch=$!
trap 'kill -TERM $batch; wait $batch; exit 143' TERM INT
wait $batch
code=$?
[ $code -ne 3 ] || leave_out "it cannot do this order"
exit $code
"""


class Slurm:
    """The Slurm of a card: `slurm:` where its programs are on this machine, `slurm://LOGIN-NODE` through SSH."""

    fulfils = frozenset({"gpus", "reclaimable"})

    def __init__(self, card: FarmCard, storage: Storage, shell: Shell) -> None:
        self._card, self._storage, self._shell = card, storage, shell

    def meet(self) -> str:
        """See Engine.meet."""
        version = self._run("sbatch", "--version").strip()
        states: Counter[str] = Counter()
        trouble: list[str] = []
        partition = self._options({}).get("partition") or self._card.machine[0].submit.get("partition")
        words = [f"--partition={partition}"] if partition else []
        for name, state, reason in self._table("sinfo", "--Node", *words, columns=("%N", "%T", "%E")):
            states[state.rstrip("*~#!%$@^-+")] += 1
            if reason not in ("none", "") and len(trouble) < 3:
                trouble.append(f"{name}: {reason}")
        if not states:
            what = f"Slurm has no nodes in the partition {partition}" if partition else "Slurm has no nodes"
            raise FarmError(what, self._shell.where, "look at: sinfo")
        counted = ", ".join(f"{count} {state}" for state, count in states.most_common())
        return f"{version} at {self._shell.where}: {counted}" + (f" ({'; '.join(trouble)})" if trouble else "")

    def show(self, line: Sequence[str]) -> list[str]:
        """See Engine.show. Slurm starts work on nodes when they are free: they are looked at then."""
        found = [name for name, state in self._table("sinfo", "--Node", columns=("%N", "%T")) if is_up(state)]
        if not found:
            raise FarmBusy("no node of Slurm is up", self._shell.where, "look at: sinfo -R")
        return sorted(set(found))

    def begin(self, batches: Batches) -> None:
        """See Engine.begin."""
        rows = in_rows(batches.names, self._most_indices())
        if not rows:
            return
        table = self._storage.seen_by_nodes(self._storage.write_rows(batches.job, rows))
        program = batches.line[0]
        line = shlex.join([self._card.cluster.python, "-E", "-s", *batches.line, "--row", str(table)])
        folder = self._storage.seen_by_nodes(self._storage.job(batches.job) / "engine")
        words = [
            "sbatch", "--parsable", f"--job-name={_name(batches.job)}", "--nodes=1", "--ntasks=1", "--requeue",
            "--open-mode=append", "--export=NONE", f"--chdir={folder}", "--output=%A-%a.txt",
            *self._wishes(batches, max(map(len, rows), default=0)),
        ]  # fmt: skip
        script = SCRIPT % {"program": shlex.quote(program), "line": line, "again": shlex.join(words)}
        self._run(*words, f"--array=0-{len(rows) - 1}%{batches.most}", text=script)

    def under_way(self, job: str) -> int:
        """See Engine.under_way."""
        return len(self._queued(job))

    def cancel(self, job: str) -> None:
        """See Engine.cancel."""
        if self._queued(job):
            self._run("scancel", "--me", f"--name={_name(job)}")

    def why(self, job: str) -> str:
        """See Engine.why: the reasons of what waits, else how what is over has ended, as far back as Slurm knows."""
        found = Counter(reason for state, reason in self._queued(job) if state == "PENDING")
        waits = [(reason, count) for reason, count in found.most_common(3) if reason not in ("None", "Dependency")]
        if waits:
            return "Slurm: " + ", ".join(f"{count} wait for {reason}" for reason, count in waits)
        ended = Counter(state for (state,) in self._ended(job) if state not in ("COMPLETED", "RUNNING", "PENDING"))
        return "Slurm: " + ", ".join(f"{count} {state}" for state, count in ended.most_common(3)) if ended else ""

    def _queued(self, job: str) -> list[tuple[str, ...]]:
        words = ("squeue", "--me", "--array", f"--name={_name(job)}")
        return list(self._table(*words, columns=("%T", "%r")))

    def _ended(self, job: str) -> list[tuple[str, ...]]:
        """Return how parts of a job have ended: from the accounting, else what the controller still knows."""
        try:
            words = ("sacct", "--allocations", "--parsable2", "--starttime=now-30days", f"--name={_name(job)}")
            lines = self._run(*words, "--noheader", "--format=State").splitlines()
            return [(line.split()[0],) for line in lines if line.strip()]
        except FarmError:
            words = ("squeue", "--me", "--array", "--states=all", f"--name={_name(job)}")
            return list(self._table(*words, columns=("%T",)))

    def _wishes(self, batches: Batches, row: int) -> Iterator[str]:
        """Yield what an order wishes as options of sbatch. row: batches of the longest row.

        Raises FarmError for an option that a card may not give.
        """
        options = self._options(batches.options)
        for name, value in options.items():
            yield f"--{name}={value}" if value else f"--{name}"
        if batches.cores is not None and not options.keys() & {"cpus-per-task", "exclusive"}:
            yield f"--cpus-per-task={batches.cores}"
        elif "cpus-per-task" not in options and "exclusive" not in options:
            yield "--exclusive"
        if batches.memory_gb is not None:
            yield f"--mem={round(batches.memory_gb * 1024)}M"
        elif "mem" not in options and batches.cores is None:
            yield "--mem=0"
        if batches.gpus is not None and "gres" not in options:
            yield f"--gres=gpu:{batches.gpus}"
        if batches.minutes is not None and "time" not in options:
            yield f"--time={max(1, round(batches.minutes * row))}"
        if "nice" not in options and "qos" not in batches.options:
            top = max(0, len(self._card.priority) - 1)
            if top:
                yield f"--nice={NICE_STEP * max(0, top - batches.rank)}"

    def _options(self, options: Mapping[str, str]) -> dict[str, str]:
        found = {**self._card.cluster.submit, **options}
        unknown = sorted(found.keys() - OPTIONS)
        if unknown:
            remedy = "a card may give Slurm: " + ", ".join(sorted(OPTIONS))
            raise FarmError(f"the card gives Slurm the option {unknown[0]!r}", self._card.name, remedy)
        return found

    def _most_indices(self) -> int:
        said = re.search(r"^MaxArraySize\s*=\s*(\d+)", self._run("scontrol", "show", "config"), re.MULTILINE)
        return max(1, (int(said[1]) if said else USUAL_ARRAY) - 1)

    def _table(self, *words: str, columns: Sequence[str]) -> Iterator[tuple[str, ...]]:
        """Yield the rows that a program prints, by its own format characters."""
        said = self._run(*words, "--noheader", "--format=" + "|".join(columns))
        for line in said.splitlines():
            cells = tuple(cell.strip() for cell in line.split("|", len(columns) - 1))
            if len(cells) == len(columns):
                yield cells

    def _run(self, *words: str, text: str = "") -> str:
        try:
            return self._shell.run(words, text)
        except ProgramFailed as error:
            if AWAY.search(error.answer):
                what = f"Slurm's controller does not answer ({error.answer})"
                raise FarmBusy(what, self._shell.where, "check that slurmctld runs; run the command again") from error
            raise


def _name(job: str) -> str:
    """Return a job's name without what Slurm's programs take for a list."""
    return re.sub(r"[^\w.-]", "_", job)


def is_up(state: str) -> bool:
    """Return whether a node in this state, as `sinfo` writes it, takes work now or when it is free.

    >>> is_up("idle"), is_up("mixed"), is_up("down*"), is_up("drained"), is_up("idle~")
    (True, True, False, False, True)
    """
    return not state.lower().startswith(("down", "drain", "fail", "error", "unknown")) and not state.endswith("*")


def in_rows(names: Sequence[str], most: int) -> list[list[str]]:
    """Share batches out over at most so many rows, in order, as evenly as it goes.

    >>> in_rows(["a", "b", "c", "d", "e"], 2)
    [['a', 'b', 'c'], ['d', 'e']]
    """
    size, more = divmod(len(names), min(most, len(names)) or 1)
    found, at = [], 0
    for number in range(min(most, len(names))):
        end = at + size + (number < more)
        found.append(list(names[at:end]))
        at = end
    return found
