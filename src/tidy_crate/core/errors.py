"""Errors in plain words. Each carries what is wrong, where, and what to do about it."""

from __future__ import annotations

LINES_SHOWN = 12


class TidyCrateError(Exception):
    """Base of every error that a user can meet.

    what: what is wrong, in one sentence without a full stop.
    where: the file, prim, farm or option it concerns.
    remedy: what the user can do.
    """

    exit_code = 2
    said: tuple[str, ...] = ()
    """The last lines that a program printed before it failed."""
    log: str | None = None
    """The file that holds all of them."""

    def __init__(self, what: str, where: object = None, remedy: str | None = None) -> None:
        self.what = what
        self.where = None if where is None else str(where)
        self.remedy = remedy
        super().__init__(what if self.where is None else f"{what}: {self.where}")


class UnreadableInput(TidyCrateError):
    """A file that the user named cannot be read, or is not what it should be."""


class WrongUsage(TidyCrateError):
    """The command was called in a way that cannot work."""


class Blocked(TidyCrateError):
    """Raised when something must be fixed first."""

    exit_code = 1


class CommandFailed(TidyCrateError):
    """A program that was run for the user failed.

    said: what it printed. log: the file that holds all of it. started: whether it got as far as running.
    """

    def __init__(
        self,
        what: str,
        where: object = None,
        remedy: str | None = None,
        *,
        said: str = "",
        log: object = None,
        started: bool = True,
    ) -> None:
        super().__init__(what, where, remedy)
        lines = [line.rstrip() for line in said.splitlines()]
        self.said = tuple([line for line in lines if line][-LINES_SHOWN:])
        self.log = None if log is None else str(log)
        self.started = started


class FarmError(TidyCrateError):
    """A farm or the network to it failed, or refused what was asked."""

    exit_code = 3


class NoAddress(FarmError):
    """A farm's card says nowhere how it is reached: a mistake on this side."""

    exit_code = 2


class FarmBusy(FarmError):
    """A farm cannot be reached or answers with an error, which may pass.

    after: seconds that it asks to be left alone, None where it does not say.
    """

    def __init__(
        self, what: str, where: object = None, remedy: str | None = None, *, after: float | None = None
    ) -> None:
        super().__init__(what, where, remedy)
        self.after = after


class StoppedHalfway(TidyCrateError):
    """Work was interrupted; running the same command again goes on from there."""

    exit_code = 4
