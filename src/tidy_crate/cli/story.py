"""The demo's story: every step is the very command that a user would type, run as a program of its own."""

from __future__ import annotations

import os
import shlex
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import date, timedelta
from pathlib import Path
from typing import Any

from rich.text import Text

from tidy_crate import api
from tidy_crate.cli.apart import run_apart
from tidy_crate.cli.chapters import ADVISED, BUDGET, JOB, Chapter, chapters
from tidy_crate.cli.talk import Talk
from tidy_crate.core.errors import TidyCrateError, WrongUsage
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.practice.demo.night import PROJECT, write_night
from tidy_crate.practice.demo.scene import DemoScene, write_demo_scene

CRATE = "lantern_quay.crate"
CARD = "practice-farm/practice.farm.toml"
# what the demo writes below its folder, and begins anew each time
HOME = "home"
MADE = ("practice-farm", "frames", "delivery", CRATE, "lantern_quay.probe", HOME, "night", "night_show")
# says that a folder is a demo's
MARK = ".tidy-crate-demo"


@dataclass
class _Teller:
    talk: Talk
    folder: Path
    number: int = 0
    seconds: dict[str, float] = field(default_factory=dict)

    def chapter(self, number: int, chapter: Chapter, filled: Callable[[str], list[str]], *, pause: bool) -> None:
        """Tell a chapter. filled: returns what a word of a step stands for. pause: wait for Enter at its end."""
        aloud = not self.talk.quiet and not self.talk.as_json
        if aloud:
            self.talk.out.print()
            self.talk.out.rule(Text(f"{number}. {chapter.title}", style="bold"), align="left", characters="-")
        for step in chapter.steps:
            self.step(step.why, *(one for word in step.words for one in filled(word)), expect=step.expect)
        if aloud:
            self.talk.out.print()
            self.talk.out.print(Text(chapter.moral, style="bold green"))
        if pause:
            self.talk.say("Press Enter to go on.")
            sys.stdin.readline()

    def step(self, why: str, *words: str, expect: int = 0) -> None:
        """Say why, show the command, run it. Any other exit code than the one expected ends the demo."""
        self.number += 1
        if not self.talk.quiet and not self.talk.as_json:
            out = self.talk.out
            out.print()
            out.print(Text.assemble((f"{self.number:>2}  ", "bold cyan"), (why, "bold")))
            out.print(
                Text("    $ tidy-crate " + " ".join(self._shown(word) for word in words), style="cyan"),
                soft_wrap=True,
            )
            out.print()
        silent = self.talk.as_json or self.talk.quiet
        began = time.perf_counter()
        code, said = run_apart(words, self.folder, silent=silent)
        self.seconds[f"{self.number} {words[0]}"] = round(time.perf_counter() - began, 2)
        if code != expect:
            command = "tidy-crate " + " ".join(words)
            raise TidyCrateError(f"the demo stopped: a step ended with {code}, not {expect}", command, said[-500:])

    @staticmethod
    def _shown(word: str) -> str:
        return shlex.quote(word) if os.name != "nt" else word


def tell(talk: Talk, folder: Path, *, pause: bool = False) -> dict[str, Any]:
    """Tell the whole story in `folder`. Return its outcome. pause: wait for Enter after each chapter.

    The demo has a home of its own in its folder: its jobs, cards and estimates never stand among the user's.
    """
    if pause and not talk.can_ask:
        raise WrongUsage("--pause needs a terminal", None, "leave it out, or run the demo in a terminal")
    with claimed(folder), _at_home(folder / HOME):
        _fresh(folder)
        scene = write_demo_scene(folder)
        write_invented_farms(folder)
        write_night(scene.project, folder, CARD)
        # the demo has just written the commands that render its scenes
        for project in (scene.project, folder / PROJECT):
            api.trust(project)
        teller = _Teller(talk, folder)
        _say(talk, folder, scene)
        farm = folder / "practice-farm"

        def filled(word: str) -> list[str]:
            if word == ADVISED:
                return _advised(folder / CRATE, folder / CARD, CARD)
            return [_newest(folder / CRATE) if word == JOB else word]

        try:
            parts = chapters(_relative(scene.scene, folder), CRATE, CARD, scene.project.as_posix())
            for number, chapter in enumerate(parts, 1):
                teller.chapter(number, chapter, filled, pause=pause and number < len(parts))
            document = _outcome(teller, _newest(folder / CRATE), folder)
        finally:
            # a machine left running is just what this tool is against
            from tidy_crate.practice.farm.control import stop

            stop(farm)
    _end(talk, folder, document)
    return document


@contextmanager
def claimed(folder: Path) -> Iterator[None]:
    """Take a folder for a demo while the block runs: an empty or new one, or one that an earlier demo made.

    Raises WrongUsage for one that holds other files, since the demo begins anew what it made, and while another demo
    runs in it.
    """
    from filelock import FileLock, Timeout

    mark = folder / MARK
    if folder.is_dir() and not mark.is_file() and any(folder.iterdir()):
        raise WrongUsage("this folder holds other files", folder, "name an empty folder, or one that is not there yet")
    folder.mkdir(parents=True, exist_ok=True)
    mark.touch()
    lock = FileLock(folder / f"{MARK}.lock")
    try:
        lock.acquire(timeout=0)
    except Timeout as error:
        raise WrongUsage("another demo runs in this folder", folder, "wait for its end, or name another one") from error
    try:
        yield
    finally:
        lock.release()


@contextmanager
def _at_home(home: Path) -> Iterator[None]:
    """Let this process and its commands have another home for as long as the block runs."""
    before = {name: os.environ.get(name) for name in (api.HOME, api.LEDGER)}
    os.environ[api.HOME] = str(home)
    os.environ.pop(api.LEDGER, None)
    try:
        yield
    finally:
        for name, value in before.items():
            if value is None:
                os.environ.pop(name, None)
            else:
                os.environ[name] = value


def _advised(crate: Path, card: Path, named: str) -> list[str]:
    """Return the command that the estimate recommends. named: the card, as it is typed."""
    from tidy_crate.cli.estimate_view import order_of
    from tidy_crate.estimating import Ask

    found = api.estimate(crate, [str(card)], Ask(budget=BUDGET)).estimate
    if found.pick is None:
        raise TidyCrateError(f"no way of rendering the demo costs less than {BUDGET}", crate)
    quote = found.quotes[found.pick.index]
    words = order_of(str(crate), quote, "", {quote.farm: named})
    return [CRATE if word == str(crate) else word for word in words]


def _newest(crate: Path) -> str:
    """Return the job that a crate was sent as last."""
    return next(str(one.job) for one in api.jobs() if one.crate == crate)


def _outcome(teller: _Teller, job: str, folder: Path) -> dict[str, Any]:
    """Return what it came to: the frames as they were last judged, the bill, and what it was sent with."""
    view = api.track(job)
    verdicts = [row.state for row in view.frames]
    told = [one for one in api.estimate_accuracy() if one.job == job]
    if not told:
        raise TidyCrateError("the demo's job was sent without an estimate", job)
    return {
        "job": job,
        "folder": str(folder),
        "frames": str(folder / "frames"),
        "contact_sheet": str(folder / "contact-sheet.png"),
        "report": str(folder / "report.html"),
        "night": str(folder / "night.html"),
        "counts": {verdict.value: verdicts.count(verdict.value) for verdict in Verdict},
        "cost": str(view.cost),
        "currency": view.currency,
        "home": str(folder / HOME),
        "estimated": told[0].cost.model_dump(mode="json"),
        "within": told[0].cost_in_range,
        "seconds": told[0].seconds.likely,
        "took": told[0].took,
        "steps": teller.seconds,
    }


def write_invented_farms(folder: Path) -> None:
    """The three invented farms, with prices of last month and, at one of them, of last year."""
    from tidy_crate.practice.demo.farms import write_farms

    today = date.today()
    write_farms(folder / "farms", (today - timedelta(days=20)).isoformat(), (today - timedelta(days=300)).isoformat())


def _relative(path: Path, folder: Path) -> str:
    return path.relative_to(folder).as_posix()


def _fresh(folder: Path) -> None:
    """Begin at the beginning: what an earlier telling made goes, and a farm that still runs is stopped."""
    import shutil

    from tidy_crate.practice.farm.control import stop

    stop(folder / "practice-farm")
    for leftover in (*MADE, "lantern_quay/shots/quay_010/lantern_quay.tidy"):
        target = folder / leftover
        if target.is_symlink():
            raise WrongUsage(
                "the demo's folder holds a link where files would be written", target, "name an empty folder"
            )
        shutil.rmtree(target, ignore_errors=True)


def _say(talk: Talk, folder: Path, scene: DemoScene) -> None:
    if talk.quiet or talk.as_json:
        return
    talk.out.print(Text("Lantern Quay: a night-ferry pier, 48 frames, and a few troubles planted in it.", style="bold"))
    where = f"It is in {folder}; the scene is {_relative(scene.scene, folder)}."
    apart = f"Jobs, cards and estimates of the demo are in its folder {HOME}, apart from your own."
    talk.out.print(Text(f"{where}\n{apart}", style="dim"), soft_wrap=True)


def _end(talk: Talk, folder: Path, document: dict[str, Any]) -> None:
    if talk.quiet or talk.as_json:
        return
    from decimal import Decimal

    from tidy_crate.cli.show import duration, facts, money

    currency, estimated, took = document["currency"], document["estimated"], document["took"]
    low, high = (money(Decimal(estimated[key]), currency) for key in ("low", "high"))
    within = "within" if document["within"] else "outside"
    counts = document["counts"]
    talk.out.print()
    talk.out.print(
        Text(f"Done: {counts['good']} of {sum(counts.values())} files are good, 48 frames of two outputs", "bold green")
    )
    setting = f"$env:{api.HOME} = " if os.name == "nt" else f"export {api.HOME}="
    facts(
        talk.out,
        [
            ("frames", document["frames"]),
            ("contact sheet", document["contact_sheet"]),
            ("report", document["report"]),
            ("the night", document["night"]),
            ("bill", f"{money(Decimal(document['cost']), currency)}, with one frame rendered twice"),
            ("estimate", f"{money(Decimal(estimated['likely']), currency)}; the bill is {within} {low} to {high}"),
            *([("farm time", f"{duration(took)}, estimated {duration(document['seconds'])}")] if took else []),
            ("the farm", f"is stopped; start it: tidy-crate practice start --folder {folder / 'practice-farm'}"),
            ("to go on", f"{setting}{shlex.quote(document['home'])}"),
        ],
    )
