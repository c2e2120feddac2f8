"""Output of commands: tables for people, JSON and exit codes for scripts."""

from __future__ import annotations

import contextlib
import functools
import inspect
import io
import json
import os
import shlex
import sys
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, TextIO, get_type_hints

import typer

from tidy_crate.cli.text import clean
from tidy_crate.core.errors import StoppedHalfway, TidyCrateError, WrongUsage
from tidy_crate.core.files import legible
from tidy_crate.core.progress import Progress, Step

if TYPE_CHECKING:
    from pydantic import BaseModel
    from rich.console import Console

JsonOption = Annotated[
    bool, typer.Option("--json", help="Write one JSON document and nothing else to standard output.")
]
EventsOption = Annotated[
    Path | None,
    typer.Option("--events", metavar="FILE", help="Write progress to FILE as JSON Lines, as it happens."),
]
QuietOption = Annotated[
    bool, typer.Option("--quiet", "-q", help="No progress and no messages but warnings on standard error.")
]
VerboseOption = Annotated[bool, typer.Option("--verbose", "-v", help="Say more.")]
YesOption = Annotated[bool, typer.Option("--yes", "-y", help="Do not ask before money is spent.")]
# columns of a table that is not read on a terminal
WIDTH = 120


class Talk:
    """Output of a command: results, messages, progress and questions."""

    def __init__(self, as_json: bool = False, events: Path | None = None, quiet: bool = False, verbose: bool = False):
        self.as_json = as_json
        self.quiet = quiet
        self.verbose = verbose
        self._events_path = events
        self._events: TextIO | None = None

    @functools.cached_property
    def out(self) -> Console:
        """Standard output, for results."""
        return _console(sys.stdout)

    @functools.cached_property
    def err(self) -> Console:
        """Standard error, for messages and progress."""
        return _console(sys.stderr)

    def say(self, text: str) -> None:
        """A message to the person at the terminal."""
        if not self.quiet:
            self.err.print(text, markup=False, highlight=False)

    def warn(self, text: str) -> None:
        """A warning to the person at the terminal, also where no messages are wanted."""
        self.err.print(text, markup=False, highlight=False)

    def document(self, text: bytes) -> None:
        """The outcome as a JSON document, which is UTF-8 whatever the output of tables is."""
        sys.stdout.flush()
        stream = getattr(sys.stdout, "buffer", None)
        if stream is None:
            sys.stdout.write(text.decode() + "\n")
        else:
            stream.write(text + b"\n")
            stream.flush()
        sys.stdout.flush()

    def result(
        self,
        document: BaseModel | dict[str, Any],
        show: Callable[[Console], None],
        more: Mapping[str, Any] | None = None,
    ) -> None:
        """The outcome: a document for a script, or what `show` draws for a person. more: keys to add to a model's."""
        if self.as_json:
            self.document(_as_text(document, more or {}).encode("utf-8", "backslashreplace"))
        else:
            show(self.out)

    @contextmanager
    def progress(self, label: str) -> Iterator[Progress]:
        """A progress bar with rate and time left while the block runs; on a terminal only."""
        drawn = not self.quiet and self.err.is_terminal
        if not drawn:
            yield self._note
            return
        from rich.progress import BarColumn, TaskProgressColumn, TextColumn, TimeRemainingColumn
        from rich.progress import Progress as Bar

        from tidy_crate.cli.show import size

        columns = (
            TextColumn("{task.description:<12}"),
            BarColumn(28),
            TaskProgressColumn(),
            TimeRemainingColumn(),
            TextColumn("{task.fields[rate]:>14}"),
            TextColumn("{task.fields[subject]}", markup=False),
        )
        with Bar(*columns, console=self.err, transient=True) as bar:
            task = bar.add_task(label, total=None, subject="", rate="")

            def draw(step: Step) -> None:
                self._note(step)
                speed = bar.tasks[0].speed
                unit = step.unit if step.unit != "bytes" else ""
                rate = "" if not speed else f"{speed:.1f} {unit}/s" if unit else f"{size(speed)}/s"
                bar.update(task, completed=step.done, total=step.total, subject=clean(step.subject)[-50:], rate=rate)

            yield draw

    def _note(self, step: Step) -> None:
        if self._events_path is None:
            return
        if self._events is None:
            try:
                self._events = self._events_path.open("a", encoding="utf-8", errors="backslashreplace")
            except OSError as error:
                raise WrongUsage(f"cannot write events ({error.strerror})", self._events_path) from error
        self._events.write(json.dumps(vars(step)) + "\n")
        self._events.flush()

    @property
    def can_ask(self) -> bool:
        """Return whether a person is there to answer."""
        return sys.stdin.isatty() and not self.as_json

    def ask(self, question: str) -> bool:
        """Ask a person yes or no."""
        return typer.confirm(clean(question), err=True)

    def agree(self, question: str, yes: bool) -> None:
        """Ask before money is spent. Without a terminal only `--yes` will do."""
        if yes:
            return
        if not self.can_ask:
            raise WrongUsage("this spends money and needs your agreement, but there is no terminal", None, "add --yes")
        if not self.ask(question):
            raise StoppedHalfway("stopped before any money was spent", None, "run the command again to agree")

    def with_trust(self, work: Callable[[], None]) -> None:
        """Do something, and where it would run commands of a project ask first whether they may.

        What was begun before the question is taken up again after it.
        """
        while True:
            try:
                work()
                return
            except WrongUsage as error:
                if not self.can_ask or not self._agreed(error):
                    raise

    def _agreed(self, error: WrongUsage) -> bool:
        """Ask what an error leaves to the user: commands that would run, and where a token goes. Note a yes."""
        from tidy_crate import api
        from tidy_crate.cli.show import command_lines
        from tidy_crate.core.farm.sign_in import NewAddress
        from tidy_crate.core.work.trust import NotTrusted

        if isinstance(error, NotTrusted):
            self.err.print(f"{error.folder} names commands that would run on this machine:")
            command_lines(self.err, error.commands)
            if not self.ask("Allow them from now on?"):
                return False
            api.trust_commands(error.folder, error.commands)
            return True
        if isinstance(error, NewAddress):
            lines = [f"{error.path} is a card for {error.address}."]
            asked = f"Send {error.source} there, now and from now on?"
            if error.commands:
                what = f"{error.path} names commands that would run on this machine or its nodes:"
                lines = [what, *(f"  {shlex.join(line)}" for line in error.commands)]
                asked = "Allow them from now on?"
            for line in lines:
                self.err.print(clean(line), markup=False, soft_wrap=True)
            if not self.ask(asked):
                return False
            api.agree_to_address(error.card, error.path)
            return True
        return False

    def fail(self, error: TidyCrateError) -> None:
        """An error in two lines, with what a program said before it failed, or as a document."""
        if self.as_json:
            document: dict[str, Any] = {"error": {"what": error.what, "where": error.where, "remedy": error.remedy}}
            if error.said or error.log:
                document["error"] |= {"said": error.said, "log": error.log}
            self.document(json.dumps(document, indent=1).encode())
            return
        from rich.text import Text

        from tidy_crate.cli.show import said_lines

        line = Text.assemble(("tidy-crate: ", "bold red"), clean(error.what))
        if error.where:
            line.append(f": {clean(error.where)}")
        self.err.print(line, soft_wrap=True)
        said_lines(self.err, error.said)
        if error.log:
            self.err.print(Text(f"  all of it: {clean(error.log)}", style="dim"), soft_wrap=True)
        if error.remedy:
            self.err.print(Text(f"  {clean(error.remedy)}", style="dim"), soft_wrap=True)

    def close(self) -> None:
        """Close the events file."""
        if self._events is not None:
            self._events.close()


def _as_text(document: BaseModel | dict[str, Any], more: Mapping[str, Any]) -> str:
    """A document as JSON. Names may hold anything, also what no encoding can write."""
    if not isinstance(document, dict):
        with contextlib.suppress(ValueError):
            # straight from the model: a large job would take many times its size as dictionaries
            text = document.model_dump_json(indent=1)
            return text if not more else f"{text[:-2]},\n{_as_text(dict(more), {})[2:]}"
    content = document if isinstance(document, dict) else document.model_dump(mode="json") | dict(more)
    text = json.dumps(content, indent=1, ensure_ascii=False, default=str)
    return text.encode("utf-8", "backslashreplace").decode("utf-8")


def _console(stream: TextIO) -> Console:
    from rich.console import Console

    from tidy_crate.cli.show import Cleaning

    class Plain(Console):
        def on_broken_pipe(self) -> None:
            # the reader of the output closed it, which is not an error
            raise BrokenPipeError

    # an output that is not UTF-8, as on Windows where it is redirected, gets escapes for what it cannot hold
    if isinstance(stream, io.TextIOWrapper):
        stream.reconfigure(errors="backslashreplace")
    # names from a scene or a farm may hold what another program takes for markup, or obeys
    console = Plain(file=stream, highlight=False, soft_wrap=False, markup=False, emoji=False)
    console.push_render_hook(Cleaning())
    if not console.is_terminal and "COLUMNS" not in os.environ:
        console.width = WIDTH
    return console


def _unforeseen(error: Exception) -> TidyCrateError:
    """Report an unexpected error: its traceback goes into a file.

    What the system says of a path is reported as that.
    """
    if isinstance(error, OSError) and error.filename and error.strerror:
        path = Path(os.fsdecode(error.filename)) if isinstance(error.filename, (str, bytes)) else None
        what = f"the system refuses to use the path ({error.strerror.lower()})"
        return TidyCrateError(what, path, "check each folder of the path, its permissions, and that the disk is there")
    if isinstance(error, FileNotFoundError) and error.filename is None:
        # what the system says where the folder that a command was typed in has been deleted
        return TidyCrateError("the folder that you are in is gone", None, "change to another folder: cd")
    import tempfile
    import traceback

    with tempfile.NamedTemporaryFile(
        "w", prefix="tidy-crate-error-", suffix=".txt", delete=False, encoding="utf-8", errors="backslashreplace"
    ) as file:
        traceback.print_exception(error, file=file)
    what = f"an unexpected error occurred ({type(error).__name__}: {str(error)[:200]})"
    return TidyCrateError(what, None, f"please report it with the file {file.name}")


def _refuse_bytes(values: dict[str, Any]) -> None:
    """Raise WrongUsage for a word that is neither text nor the path of a file. Paths may be any bytes."""
    for value in values.values():
        for word in value if isinstance(value, (list, tuple)) else (value,):
            if isinstance(word, str) and legible(word) != word and not os.path.exists(word):  # noqa: PTH110
                raise WrongUsage(f"'{legible(word)}' holds bytes that are not UTF-8", None, "type it as UTF-8 text")


def command(app: typer.Typer, name: str) -> Callable[[Callable[..., None]], Callable[..., None]]:
    """Register a command with the options that all share. It gets a Talk first, and its errors are shown plainly."""

    def register(function: Callable[..., None]) -> Callable[..., None]:
        @functools.wraps(function)
        def run(**values: Any) -> None:
            talk = Talk(values.pop("as_json"), values.pop("events"), values.pop("quiet"), values.pop("verbose"))
            try:
                _refuse_bytes(values)
                talk.with_trust(lambda: function(talk, **values))
            except TidyCrateError as error:
                talk.fail(error)
                raise typer.Exit(error.exit_code) from None
            except KeyboardInterrupt:
                talk.fail(StoppedHalfway("stopped", None, "run the same command again to continue"))
                raise typer.Exit(StoppedHalfway.exit_code) from None
            except typer.Exit:
                raise
            except BrokenPipeError:
                # the reader of the output closed it
                sys.stdout = open(os.devnull, "w")  # noqa: PTH123, SIM115
                raise typer.Exit(0) from None
            except Exception as error:  # noqa: BLE001 - the last line of defence: no user is shown a traceback
                talk.fail(_unforeseen(error))
                raise typer.Exit(TidyCrateError.exit_code) from None
            finally:
                talk.close()

        shared = {
            "as_json": JsonOption,
            "events": EventsOption,
            "quiet": QuietOption,
            "verbose": VerboseOption,
        }
        # resolved here: the words of a later `from __future__ import annotations` mean nothing elsewhere
        hints = get_type_hints(function, include_extras=True)
        own = [p.replace(annotation=hints[p.name]) for p in list(inspect.signature(function).parameters.values())[1:]]
        kind = inspect.Parameter.KEYWORD_ONLY
        extra = [
            inspect.Parameter(key, kind, default=None if key == "events" else False, annotation=hint)
            for key, hint in shared.items()
        ]
        run.__signature__ = inspect.Signature([*(p.replace(kind=kind) for p in own), *extra])  # type: ignore[attr-defined]
        run.__annotations__ = {**{p.name: p.annotation for p in own}, **shared}
        app.command(name)(run)
        return function

    return register
