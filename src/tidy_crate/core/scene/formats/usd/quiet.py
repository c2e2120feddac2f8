"""Opening USD files so that the library's own messages never reach the user, only ours do."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from pxr import Sdf, Tf, Usd, UsdUtils

from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.scene.formats.usd import package

NOT_UTF8 = "it holds text that is not UTF-8"
_SYNTAX = re.compile(r":(?P<line>\d+):(?P<column>\d+): .*? at '(?P<near>.*?)'")
_REASON = re.compile(r" : '(.*?)'\s*(?:\n|$)", re.DOTALL)


@contextmanager
def usd_messages(where: Path | str | None = None) -> Iterator[list[str]]:
    """Catch what the library would print; the list is filled when the block ends.

    Raises UnreadableInput with `where`, if that is given, for what the library cannot evaluate: programs that ignore
    its messages go on with some value, each with another one.
    """
    caught: list[str] = []
    delegate = UsdUtils.CoalescingDiagnosticDelegate()
    try:
        yield caught
    except Tf.ErrorException as error:
        if where is None:
            raise
        remedy = "fix it in the program that wrote the scene: programs interpret it differently"
        raise UnreadableInput(f"something in the scene cannot be evaluated ({reason(error)})", where, remedy) from error
    except UnicodeError as error:
        raise _no_unicode(error, where) from error
    finally:
        caught.extend(map(_commentary, delegate.TakeUncoalescedDiagnostics()))
        del delegate


def _commentary(message: Any) -> str:
    try:
        return str(message.commentary)
    except UnicodeError:
        return NOT_UTF8


def _no_unicode(error: UnicodeError, where: Path | str | None) -> UnreadableInput:
    """Return what is wrong with a text that the library cannot take, or has handed out unreadable."""
    if isinstance(error, UnicodeEncodeError):
        what = "its path holds bytes that are not UTF-8, and the USD library opens no such path"
        return UnreadableInput(what, where, "rename the folder or the file")
    return UnreadableInput(NOT_UTF8, where, "save it again as UTF-8")


def reason(error: Exception) -> str:
    """The library's reason for a failure, in one line and without its own source code locations."""
    try:
        whole = str(error)
    except UnicodeError:
        return NOT_UTF8
    found = _REASON.search(whole)
    text = re.sub(r"\s+", " ", found[1] if found else whole).strip()
    syntax = _SYNTAX.search(text)
    if syntax:
        # the parser's own words name its grammar, which does not help the author of the file
        near = syntax["near"] or ""
        return f"syntax error in line {syntax['line']}, column {syntax['column']}, near '{near[:60]}'"
    return re.sub(r"pxrInternal\w+(::)?", "", text)[:300]


def open_layer(path: Path) -> Sdf.Layer:
    """Open a layer for reading. Raises UnreadableInput with a plain reason."""
    inside = package.split(path)
    file, name = (path if inside is None else inside[0]), package.identifier(path)
    # a device or a pipe would be read for ever
    if not file.is_file():
        raise UnreadableInput("there is no such layer" if not file.exists() else "the layer is not a file", path)
    if inside is not None and not package.names(file):
        # the library itself would read as many of its files as are there and lose the rest without a word
        raise UnreadableInput("the package is broken (it has no directory of its files)", file, "pack it again")
    try:
        with usd_messages() as messages:
            layer = Sdf.Layer.Find(name)
            if layer is None:
                layer = Sdf.Layer.FindOrOpen(name)
            elif not layer.dirty:
                # the library keeps what it has read, and the file may have been saved since
                layer.Reload()
    except Tf.ErrorException as error:
        raise UnreadableInput(
            f"the layer is broken ({reason(error)})", path, "correct it, or save it again from the program it is from"
        ) from error
    except UnreadableInput as error:
        raise UnreadableInput(error.what, path, error.remedy) from error
    if layer is None:
        detail = f" ({messages[0][:200]})" if messages else ""
        raise UnreadableInput(f"the layer cannot be read{detail}", path, "save it again from the program it is from")
    return layer


def open_stage(root: Sdf.Layer, where: Path) -> Usd.Stage:
    """Compose the scene below a root layer, payloads loaded."""
    try:
        with usd_messages():
            return Usd.Stage.Open(root, load=Usd.Stage.LoadAll)
    except Tf.ErrorException as error:
        raise UnreadableInput(f"the scene cannot be composed ({reason(error)})", where) from error
