"""The facts of layers: remembered by each layer's stat, and worked out by helper processes where there are many."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Iterable
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from queue import SimpleQueue
from types import TracebackType
from typing import Any

from pxr import Sdf

from tidy_crate import __version__
from tidy_crate.core.errors import UnreadableInput
from tidy_crate.core.files import file_mark, read_input, write_bytes
from tidy_crate.core.process import cores as usable_cores
from tidy_crate.core.process import end_with_caller, own_helper
from tidy_crate.core.scene.formats.usd import package
from tidy_crate.core.scene.formats.usd.facts import LayerFacts, layer_facts
from tidy_crate.core.scene.formats.usd.hints import MOST_BYTES, is_leaf
from tidy_crate.core.scene.formats.usd.quiet import open_layer
from tidy_crate.core.scene.formats.usd.text_facts import text_facts

# below this many layers (or bytes) a helper's own start takes longer than it saves
MANY_LAYERS = 24
MANY_BYTES = 12 << 20
# with fewer, the layers are parsed as fast by the process that composes them, which parses them anyway
WORTH_HELPERS = 3

# what this process has worked out already: a command reads a scene as found, as staged and to write it
_here: dict[Path, tuple[str, LayerFacts]] = {}


class Library:
    """Gives the facts of layers. survey_cache: a file in which they are kept from one command to the next.

    Use it as a context manager: helpers end with it. opened: layers opened here, held so that a stage finds them.
    cores: how many helpers may work, those of the machine when None. many_bytes: of layers, from which they do.
    reads_text: whether text layers may be read without opening them; `confirm` is then to be called.
    """

    def __init__(
        self,
        survey_cache: Path | None = None,
        cores: int | None = None,
        many_bytes: int = MANY_BYTES,
        *,
        reads_text: bool = False,
    ) -> None:
        self._many_bytes = many_bytes
        self._reads_text = reads_text
        self._by_text: dict[Path, None] = {}
        self._leaves: dict[Path, bool] = {}
        self._cores = usable_cores() if cores is None else cores
        self.helpers = 0
        self.opened: dict[Path, Sdf.Layer] = {}
        self._cache = survey_cache
        self._kept: dict[str, list[Any]] | None = None
        self._awaited: dict[Path, Future[dict[str, Any]]] = {}
        self._used: dict[Path, tuple[str, LayerFacts]] = {}
        self._helpers: _Helpers | None = None

    def __enter__(self) -> Library:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, _: TracebackType | None) -> None:
        if self._helpers is not None:
            self._helpers.close()
        if error is None:
            self._save()

    def expect(self, paths: Iterable[Path]) -> None:
        """Say which layers will be asked for, so that helpers can start on them."""
        new = [path for path in paths if path not in self._awaited and self._remembered(path, _mark(path)) is None]
        new = [path for path in new if not self.is_leaf(path)]
        workers = self._cores
        large = sum(_size(path) for path in new) >= self._many_bytes
        if self._helpers is None and workers >= WORTH_HELPERS and len(new) >= MANY_LAYERS and large:
            self._helpers = _Helpers(workers)
            self.helpers = workers
        if self._helpers is not None:
            self._awaited.update((path, self._helpers.ask(path)) for path in new)

    def facts(self, path: Path) -> LayerFacts:
        """The facts of one layer. Raises UnreadableInput when it cannot be read."""
        mark = _mark(path)
        facts = self._remembered(path, mark)
        if facts is None:
            facts = self._from_helper(path) or layer_facts(self.layer(path))
        if mark is not None:
            self._used[path] = _here[path] = (mark, facts)
        return facts

    def confirm(self) -> bool:
        """Return whether the library reads all layers whose facts are from their text. Call it after composing.

        Where it does not, a layer is broken, and the facts are not to be used.
        """
        try:
            for path in self._by_text:
                # those that it has composed are held already
                if Sdf.Layer.Find(str(path)) is None:
                    self.layer(path)
        except UnreadableInput:
            return False
        _here.update((path, self._used[path]) for path in self._by_text if path in self._used)
        return True

    def is_leaf(self, path: Path) -> bool:
        """Return whether a layer certainly brings in no other one, by its text: its facts can wait for `leaf_facts`."""
        if path not in self._leaves:
            self._leaves[path] = self._is_leaf(path)
        return self._leaves[path]

    def _is_leaf(self, path: Path) -> bool:
        if not self._reads_text or path.suffix not in (".usda", ".usd") or package.split(path) is not None:
            return False
        try:
            if self._remembered(path, _mark(path)) is not None or Sdf.Layer.Find(str(path)) is not None:
                return False  # an older state of it may be held
            return is_leaf(path)
        except (OSError, ValueError):
            return False

    def leaf_facts(self, path: Path) -> LayerFacts | None:
        """Return the facts of a leaf by its lines, None where it must be opened. See `confirm`."""
        mark = _mark(path)
        try:
            facts = text_facts(read_input(path, MOST_BYTES))
        except OSError:
            return None
        if facts is not None:
            self._by_text[path] = None
            if mark is not None:
                self._used[path] = (mark, facts)
        return facts

    def layer(self, path: Path) -> Sdf.Layer:
        """The layer itself."""
        if path not in self.opened:
            self.opened[path] = open_layer(path)
        return self.opened[path]

    def _remembered(self, path: Path, mark: str | None) -> LayerFacts | None:
        if mark is None:
            return None
        known = _here.get(path)
        if known is not None and known[0] == mark:
            return known[1]
        entry = self._all_kept().get(str(path))
        if not isinstance(entry, list) or len(entry) != 2 or entry[0] != mark:
            return None
        try:
            facts = LayerFacts.of_plain(entry[1])
        except (KeyError, TypeError, ValueError):
            return None
        _here[path] = (mark, facts)
        _fresh(path)
        return facts

    def _from_helper(self, path: Path) -> LayerFacts | None:
        """Return what a helper found; None when it had no answer: the layer is then read here, with its error if
        any.
        """
        awaited = self._awaited.pop(path, None)
        if awaited is None:
            return None
        try:
            facts = LayerFacts.of_plain(awaited.result())
        except (OSError, KeyError, TypeError, ValueError):
            return None
        _fresh(path)
        return facts

    def _all_kept(self) -> dict[str, list[Any]]:
        if self._kept is None:
            try:
                found = json.loads(self._cache.read_bytes()) if self._cache is not None else {}
            except (OSError, ValueError):
                found = {}
            known = isinstance(found, dict) and found.get("tool") == __version__
            self._kept = found["layers"] if known and isinstance(found.get("layers"), dict) else {}
        return self._kept

    def _save(self) -> None:
        """Keep what was used, unless it is all kept already."""
        if self._cache is None:
            return
        kept = self._all_kept()
        marks = {path: entry[0] for path, entry in kept.items() if isinstance(entry, list) and entry}
        if marks == {str(path): mark for path, (mark, _) in self._used.items()}:
            return
        layers = {str(path): [mark, facts.plain()] for path, (mark, facts) in self._used.items()}
        try:
            self._cache.parent.mkdir(parents=True, exist_ok=True)
            write_bytes(self._cache, json.dumps({"tool": __version__, "layers": layers}).encode())
        except (OSError, TypeError, ValueError):
            pass  # a cache that cannot be written costs time next time, nothing else


def forget() -> None:
    """Drop the facts that this process has worked out: the next question reads the layers, or the cache, again."""
    _here.clear()


class _Helpers:
    """Processes that work out facts, each fed by a thread of its own."""

    def __init__(self, count: int) -> None:
        self._idle: SimpleQueue[subprocess.Popen[str]] = SimpleQueue()
        self._all = [_start() for _ in range(count)]
        for helper in self._all:
            self._idle.put(helper)
        self._pool = ThreadPoolExecutor(count)

    def ask(self, path: Path) -> Future[dict[str, Any]]:
        return self._pool.submit(self._answer, path)

    def _answer(self, path: Path) -> dict[str, Any]:
        helper = self._idle.get()
        try:
            assert helper.stdin is not None and helper.stdout is not None
            helper.stdin.write(json.dumps(str(path)) + "\n")
            helper.stdin.flush()
            answer = json.loads(helper.stdout.readline())
        finally:
            self._idle.put(helper)
        if not isinstance(answer, dict):
            raise ValueError(answer)
        return answer

    def close(self) -> None:
        self._pool.shutdown(cancel_futures=True)
        for helper in self._all:
            helper.kill()
            helper.communicate()


def _start() -> subprocess.Popen[str]:
    # a process of our own and not one of multiprocessing's: those run the caller's main program once more
    line, environment = own_helper("tidy_crate.core.scene.formats.usd.library")
    return subprocess.Popen(
        line,
        env=environment,
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        text=True,
        encoding="utf-8",
    )


def answer_lines() -> None:
    """Run a helper: a path as JSON per line in, the facts of that layer out, `null` for one it cannot
    read.
    """
    end_with_caller()
    for line in sys.stdin:
        try:
            answer = layer_facts(open_layer(Path(json.loads(line)))).plain()
            text = json.dumps(answer)
        except (UnreadableInput, TypeError, ValueError):
            text = "null"
        sys.stdout.write(text + "\n")
        sys.stdout.flush()


def _mark(path: Path) -> str | None:
    inside = package.split(path)
    try:
        return file_mark(path if inside is None else inside[0])
    except (OSError, ValueError):
        return None


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except (OSError, ValueError):
        return 0


def _fresh(path: Path) -> None:
    """Make sure that the library does not go on with an older state of a layer that it holds."""
    try:
        held = Sdf.Layer.Find(package.identifier(path))
    except UnicodeError:
        return  # the library holds no layer of such a path
    if held is not None and not held.dirty:
        open_layer(path)


if __name__ == "__main__":
    answer_lines()
