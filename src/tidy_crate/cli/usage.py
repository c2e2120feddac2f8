"""Errors of a command line in our own words: for a person in two lines, with `--json` as a document."""

from __future__ import annotations

import inspect
import re
import sys
from collections.abc import Callable, Sequence
from difflib import get_close_matches
from typing import Annotated, Any, get_args, get_origin

import typer

from tidy_crate.cli.talk import Talk
from tidy_crate.core.errors import StoppedHalfway, TidyCrateError, WrongUsage

# what every error of a command line is, of whichever library: that of the base classes of a public one
_Usage: Any = next(one for one in typer.BadParameter.__mro__ if one.__name__ == "ClickException")
# what a parameter of a type takes, in words
_KINDS = {int: "a whole number", float: "a number"}
_EXTRA = re.compile(r"unexpected extra argument(?:s|\(s\))? \((.*)\)", re.DOTALL)


def run(program: Callable[..., Any], words: Sequence[str] | None = None) -> None:
    """Run the command line, and end the process with its exit code. words: those of this process if not said."""
    words = sys.argv[1:] if words is None else words
    try:
        code = program(list(words), standalone_mode=False)
    except _Usage as error:
        if type(error).__name__ == "NoArgsIsHelpError":
            # a group of commands without one of them: its help, as the library shows it
            error.show()
            sys.exit(error.exit_code)
        told = told_as(error, words)
        as_json = "--json" in words[: words.index("--")] if "--" in words else "--json" in words
        Talk(as_json=as_json).fail(told)
        sys.exit(told.exit_code)
    except typer.Abort:
        Talk(as_json="--json" in words).fail(StoppedHalfway("stopped", None, "run the same command again"))
        sys.exit(StoppedHalfway.exit_code)
    sys.exit(code if isinstance(code, int) else 0)


def told_as(error: Any, words: Sequence[str]) -> TidyCrateError:
    """Return an error of the command line as one of ours. words: the command line."""
    context = getattr(error, "ctx", None)
    command = context.command_path if context is not None else "tidy-crate"
    return WrongUsage(_what(error, words), None, f"{command} --help shows how it is used")


def _what(error: Any, words: Sequence[str]) -> str:
    kind, param, context = type(error).__name__, getattr(error, "param", None), getattr(error, "ctx", None)
    if kind == "NoSuchOption":
        known = [name for one in context.command.params for name in one.opts] if context is not None else []
        near = get_close_matches(error.option_name, known, 1)
        return f"there is no option {error.option_name}" + (f"; did you mean {near[0]}?" if near else "")
    if param is None and (extra := _EXTRA.search(error.format_message())):
        return f"nothing more is taken here: {extra.group(1)}; an option with several values is repeated for each"
    if param is None:
        return _first_small(error.format_message().rstrip("."))
    name = _name(param)
    if kind == "MissingParameter":
        return f"{name} is missing"
    takes = _takes(param, context)
    if not takes:
        return f"{name}: {_first_small(str(error.message).rstrip('.'))}"
    given = _given(param, words)
    return f"{name} takes {takes}" + (f", not {given!r}" if given is not None else "")


def _name(param: Any) -> str:
    longest: str = max(param.opts, key=len)
    if longest.startswith("-"):
        return longest
    return str(getattr(param, "metavar", None) or param.name.upper()).strip("[]{}")


def _takes(param: Any, context: Any) -> str:
    """Return what a number of a command line may be, in words; empty for what is no number."""
    try:
        said = inspect.signature(context.command.callback).parameters[param.name].annotation
    except (AttributeError, KeyError, TypeError, ValueError):
        return ""
    kinds = get_args(get_args(said)[0]) or get_args(said)[:1] if get_origin(said) is Annotated else (said,)
    words = next((_KINDS[one] for one in kinds if one in _KINDS), "")
    info = next((one for one in getattr(said, "__metadata__", ()) if hasattr(one, "min")), None)
    if not words or info is None:
        return words
    if info.min is not None and info.max is not None:
        return f"{words} from {info.min} to {info.max}"
    return words + (f" of at least {info.min}" if info.min is not None else "")


def _given(param: Any, words: Sequence[str]) -> str | None:
    """Return what was given for an option; None for an argument, which has no mark of its own."""
    for at, word in enumerate(words):
        name, equals, value = word.partition("=")
        if name in param.opts and name.startswith("-"):
            return value if equals else words[at + 1] if at + 1 < len(words) else None
    return None


def _first_small(text: str) -> str:
    return text[:1].lower() + text[1:]
