"""Errors in plain words. Each carries what is wrong, where, and what to do about it."""

from __future__ import annotations


class TidyCrateError(Exception):
    """Base of every error that a user can meet.

    what: what is wrong, in one sentence without a full stop.
    where: the file, prim, farm or option it concerns.
    remedy: what the user can do.
    """

    exit_code = 2

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
    """Something was found that must be put right first."""

    exit_code = 1


class FarmError(TidyCrateError):
    """A farm or the network to it failed, or refused what was asked."""

    exit_code = 3


class StoppedHalfway(TidyCrateError):
    """Work was interrupted; running the same command again goes on from there."""

    exit_code = 4
