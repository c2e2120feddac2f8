"""A Slurm of its own for tests: one controller, munge and two node daemons on loopback, as root, without systemd."""

from __future__ import annotations

import contextlib
import os
import shutil
import signal
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from ports import free_port

PROGRAMS = ("slurmctld", "slurmd", "munged", "sbatch", "squeue", "sinfo", "scontrol", "scancel")
CONFIGURATION = """ClusterName=quay
SlurmctldHost={host}(127.0.0.1)
SlurmctldPort={port}
SlurmUser=root
SlurmdUser=root
StateSaveLocation={folder}/state
SlurmdSpoolDir={folder}/spool/%n
SlurmctldPidFile={folder}/slurmctld.pid
SlurmdPidFile={folder}/%n.pid
SlurmctldLogFile={folder}/slurmctld.log
SlurmdLogFile={folder}/%n.log
AuthType=auth/munge
AuthInfo=socket={folder}/munge.sock
ProctrackType=proctrack/linuxproc
TaskPlugin=task/none
JobAcctGatherType=jobacct_gather/none
AccountingStorageType=accounting_storage/none
SelectType=select/cons_tres
SelectTypeParameters=CR_Core
ReturnToService=2
MpiDefault=none
SlurmdParameters=config_overrides
SlurmdTimeout=6
KillWait=3
InactiveLimit=0
BatchStartTimeout=20
SchedulerParameters=sched_min_interval=100000,defer_batch
PreemptType=preempt/partition_prio
PreemptMode=REQUEUE
Licenses=brush:1
{nodes}
PartitionName=render Nodes={names} Default=YES MaxTime=INFINITE State=UP PriorityTier=10 PreemptMode=OFF
PartitionName=scavenge Nodes={names} MaxTime=INFINITE State=UP PriorityTier=1 PreemptMode=REQUEUE
"""
NODE = "NodeName={name} NodeHostname={host} NodeAddr=127.0.0.1 Port={port} CPUs=2 RealMemory=2000 Feature={name}"


def missing() -> str:
    """Return why there can be no Slurm here; empty where there can."""
    lacks = [name for name in PROGRAMS if shutil.which(name) is None]
    if lacks:
        return f"needs Slurm ({', '.join(lacks)}): install slurmctld, slurmd, slurm-client and munge"
    if os.geteuid():
        return "starting Slurm's daemons needs root"
    return ""


@dataclass
class SlurmHere:
    """A running Slurm."""

    folder: Path
    names: list[str]
    """Of its nodes."""

    @property
    def environment(self) -> dict[str, str]:
        return os.environ | {"SLURM_CONF": str(self.folder / "slurm.conf")}

    def run(self, *words: str) -> str:
        done = subprocess.run(words, env=self.environment, capture_output=True, text=True, timeout=60, check=False)
        return done.stdout + done.stderr

    def start(self, *words: str) -> None:
        subprocess.run(words, env=self.environment, check=True, capture_output=True, timeout=60)

    def kill(self, name: str, number: int = signal.SIGKILL) -> None:
        """Kill a daemon: `slurmctld`, or one of a node. What that node runs goes on."""
        with contextlib.suppress(OSError, ValueError):
            os.kill(int((self.folder / f"{name}.pid").read_text()), number)

    def ready(self, seconds: float = 30) -> None:
        until = time.monotonic() + seconds
        while self.run("sinfo", "-h", "-N", "-p", "render", "-o", "%T").split() != ["idle"] * len(self.names):
            assert time.monotonic() < until, self.run("sinfo")
            time.sleep(0.2)


@contextmanager
def slurm(folder: Path, count: int = 2) -> Iterator[SlurmHere]:
    """Run a Slurm with so many nodes in a folder for as long as the block."""
    names = [f"n{number + 1}" for number in range(count)]
    folder.chmod(0o755)
    for name in ("state", "spool", "munge"):
        (folder / name).mkdir()
    (folder / "munge").chmod(0o755)
    key = folder / "munge.key"
    key.write_bytes(os.urandom(1024))
    key.chmod(0o400)
    host = socket.gethostname().split(".")[0]
    nodes = "\n".join(NODE.format(name=name, host=host, port=free_port()) for name in names)
    text = CONFIGURATION.format(folder=folder, host=host, port=free_port(), nodes=nodes, names=",".join(names))
    (folder / "slurm.conf").write_text(text)
    found = SlurmHere(folder, names)
    try:
        found.start(
            "munged", f"--key-file={key}", f"--socket={folder}/munge.sock", f"--pid-file={folder}/munge/m.pid",
            f"--log-file={folder}/munge/m.log", f"--seed-file={folder}/munge/seed", "--force",
        )  # fmt: skip
        found.start("slurmctld", "-c")
        for name in names:
            found.start("slurmd", "-N", name)
        found.ready()
        yield found
    finally:
        found.run("scancel", "--me")
        for name in (*names, "slurmctld", "munge/m"):
            found.kill(name)
        for path in folder.rglob("*"):
            with contextlib.suppress(OSError):
                path.chmod(0o700)
