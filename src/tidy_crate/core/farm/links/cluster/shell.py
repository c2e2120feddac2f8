"""Running programs of a scheduler: on this machine, or on a login node through SSH."""

from __future__ import annotations

import os
import shlex
import subprocess
from collections.abc import Sequence
from dataclasses import dataclass

from tidy_crate.core.errors import FarmBusy, FarmError
from tidy_crate.core.process import without_tokens

# seconds for one program; a controller that restarts is waited for by its own programs
LIMIT = 90.0
CONNECT = 10
# what SSH itself ends with when it cannot get through
SSH_FAILED = 255
MOST_SAID = 300


@dataclass(frozen=True)
class Shell:
    """A machine on which programs are run: this one without a host."""

    host: str = ""
    port: int | None = None
    user: str | None = None
    key_file: str | None = None
    known_hosts: str | None = None

    @property
    def where(self) -> str:
        """Return a name for the place, for messages."""
        return self.host or "this machine"

    def run(self, words: Sequence[str], text: str = "", patience: float = LIMIT) -> str:
        """Run a program with a text as its input. Return what it prints.

        Raises FarmBusy where the host does not answer or the program takes longer than `patience` seconds, and
        FarmError where it is not installed or fails, with what it said.
        """
        line = [*self._ssh(), shlex.join(words)] if self.host else list(words)
        try:
            done = subprocess.run(
                line, input=text.encode(), capture_output=True, timeout=patience, check=False,
                env=without_tokens(os.environ),
            )  # fmt: skip
        except FileNotFoundError as error:
            remedy = "install it, or name a login node in the url of the card"
            raise FarmError(f"{line[0]} is not installed on this machine", self.where, remedy) from error
        except subprocess.TimeoutExpired as error:
            what = f"{words[0]} does not answer within {patience:g} s"
            raise FarmBusy(what, self.where, "check that the scheduler runs; run the command again") from error
        except OSError as error:
            raise FarmError(f"{line[0]} cannot be run ({error.strerror})", self.where) from error
        if done.returncode == 0:
            return done.stdout.decode("utf-8", "replace")
        said = " ".join((done.stderr or done.stdout).decode("utf-8", "replace").split())[-MOST_SAID:]
        if self.host and done.returncode == SSH_FAILED:
            remedy = f"check that this works: ssh {self.host}"
            raise FarmBusy(f"the login node cannot be reached ({said})", self.host, remedy)
        raise ProgramFailed(words[0], said, self.where, done.returncode)

    def _ssh(self) -> list[str]:
        line = ["ssh", "-o", "BatchMode=yes", "-o", f"ConnectTimeout={CONNECT}"]
        for name, value in (("UserKnownHostsFile", self.known_hosts), ("IdentityFile", self.key_file)):
            line += ["-o", f"{name}={value}"] if value else []
        line += ["-p", str(self.port)] if self.port else []
        # after -- no name of a host is taken for an option
        return [*line, *(["-l", self.user] if self.user else []), "--", self.host]


class ProgramFailed(FarmError):
    """A program of the scheduler failed."""

    def __init__(self, program: str, said: str, where: str, code: int) -> None:
        super().__init__(f"{program} failed: {said or f'it ended with {code}'}", where, "see what it says")
        self.answer = said
        """Its output, as one line."""
