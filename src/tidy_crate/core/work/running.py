"""Running the command lines that a project names, where its user trusts them."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from tidy_crate.core.errors import CommandFailed
from tidy_crate.core.files import os_reason
from tidy_crate.core.process import Ended, Limits, run_program
from tidy_crate.core.work.command import filled
from tidy_crate.core.work.trust import Claim, NotTrusted, Trust, with_reads


@dataclass(frozen=True)
class Commands:
    """The command lines of one scene or crate, and the right to run those that are trusted."""

    folders: tuple[Path, ...] = ()
    """The folders that they belong to; the first is the one that the user is asked about."""
    claims: tuple[Claim, ...] = ()
    """All of them."""
    trust: Trust = field(default_factory=Trust)
    environment: Mapping[str, str] = field(default_factory=dict, repr=False)
    """For the programs. No token is in it."""

    def need(self, words: Sequence[str], reads: Sequence[str] = ()) -> None:
        """Raise NotTrusted unless a command, given with its placeholders, may run.

        reads: paths outside the crate that a render command declares; they are agreed to with it.
        """
        holds = self.trust.of(self.folders)
        if not holds(with_reads(words, reads)):
            mine = [one for one in self.claims if not holds(one.mark_words)]
            folder = self.folders[0] if self.folders else Path()
            raise NotTrusted(folder, mine or [Claim("command", tuple(words), reads=tuple(reads))])

    def run(
        self,
        words: Sequence[str],
        values: Mapping[str, str],
        folder: Path,
        limit: float,
        *,
        log: Path | None = None,
        on_line: Callable[[str], None] | None = None,
        what: str = "the host's command",
        watch: bool = False,
        limits: Limits | None = None,
        reads: Sequence[str] = (),
    ) -> Ended:
        """Run one of them in a folder. values: for its placeholders. what: its name in errors. reads: see `need`. For
        the rest see run_program.

        Raises NotTrusted, and CommandFailed with the last lines that it printed when it cannot start, fails, or takes
        longer than `limit` seconds or more than `limits`.
        """
        self.need(words, reads)
        line = filled(tuple(words), values)
        try:
            ended = run_program(
                line, folder, self._environment(words), limit, log=log, on_line=on_line, watch=watch, limits=limits
            )
        except (OSError, ValueError) as error:
            reason = os_reason(error) if isinstance(error, OSError) else str(error)
            raise CommandFailed(f"{what} cannot start ({reason})", line[0], _CHECK, started=False) from error
        if ended.over is not None:
            raise CommandFailed(f"{what} took {ended.over} and was stopped", line[0], said=ended.text, log=log)
        if ended.late:
            raise CommandFailed(f"{what} did not end within {limit:g} s", line[0], said=ended.text, log=log)
        if ended.code in _NOT_STARTED:
            raise CommandFailed(f"{what} cannot start", line[0], _CHECK, said=ended.text, log=log, started=False)
        if ended.code in _KILLED:
            peak = f", at {ended.memory_bytes / 2**30:.1f} GiB" if ended.memory_bytes else ""
            what = f"{what} was killed{peak}, most likely because the memory of this machine ran out"
            raise CommandFailed(what, line[0], _SMALLER, said=ended.text, log=log)
        if ended.code != 0:
            where = " ".join(line)[:200]
            raise CommandFailed(f"{what} failed with code {ended.code}", where, said=ended.text, log=log)
        return ended

    def _environment(self, words: Sequence[str]) -> Mapping[str, str]:
        """Return the environment for a command: Python runs a project's scripts, not what is compiled beside them."""
        own = (Path(folder, *name.split(".")) for name in words for folder in self.folders if "\0" not in name)
        scripts = any(".py" in word for word in words) or ("-m" in words and any(path.exists() for path in own))
        if not scripts or self.trust.bytecode is None:
            return self.environment
        return {"PYTHONPYCACHEPREFIX": str(self.trust.bytecode), **self.environment}


_CHECK = "check the command line and that the program is installed"
_SMALLER = "free some memory, or run it on a machine with more"
# by the signal that the system sends when memory is short, as Python and as a shell tell it
_KILLED = (-9, 137)
# what a shell returns for a command that it cannot run, and for one that it does not find
_NOT_STARTED = (126, 127)
