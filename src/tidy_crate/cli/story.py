"""The demo's story: every step is the very command that a user would type, run as a program of its own."""

from __future__ import annotations

import os
import shlex
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import date, timedelta
from pathlib import Path
from typing import Any

from rich.text import Text

from tidy_crate import api
from tidy_crate.cli.apart import run_apart
from tidy_crate.cli.chapters import JOB, Chapter, chapters
from tidy_crate.cli.talk import Talk
from tidy_crate.core.errors import TidyCrateError, WrongUsage
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.practice.demo.scene import DemoScene, write_demo_scene

CRATE = "lantern_quay.crate"


@dataclass
class _Teller:
    talk: Talk
    folder: Path
    number: int = 0
    seconds: dict[str, float] = field(default_factory=dict)

    def chapter(self, number: int, chapter: Chapter, job: Callable[[], str], *, pause: bool) -> None:
        """Tell a chapter. job: returns the job that was sent last. pause: wait for Enter at its end."""
        aloud = not self.talk.quiet and not self.talk.as_json
        if aloud:
            self.talk.out.print()
            self.talk.out.rule(Text(f"{number}. {chapter.title}", style="bold"), align="left", characters="-")
        for step in chapter.steps:
            self.step(step.why, *(job() if word == JOB else word for word in step.words), expect=step.expect)
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
    """Tell the whole story in `folder`. Return its outcome. pause: wait for Enter after each chapter."""
    if pause and not talk.can_ask:
        raise WrongUsage("--pause needs a terminal", None, "leave it out, or run the demo in a terminal")
    scene = write_demo_scene(folder)
    write_invented_farms(folder)
    # the demo has just written the command that renders its scene
    api.trust(scene.project)
    _fresh(scene, folder)
    teller = _Teller(talk, folder)
    _say(talk, folder, scene)
    farm = folder / "practice-farm"
    try:
        parts = chapters(
            _relative(scene.scene, folder), CRATE, _relative(farm / "practice.farm.toml", folder),
            scene.project.as_posix(),
        )  # fmt: skip
        for number, chapter in enumerate(parts, 1):
            teller.chapter(number, chapter, _newest, pause=pause and number < len(parts))
        document = _outcome(teller, _newest(), folder)
    finally:
        # a machine left running is just what this tool is against
        from tidy_crate.practice.farm.control import stop

        stop(farm)
    _end(talk, folder, document)
    return document


def _newest() -> str:
    return str(api.jobs()[0].job)


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
        "counts": {verdict.value: verdicts.count(verdict.value) for verdict in Verdict},
        "cost": str(view.cost),
        "currency": view.currency,
        "estimated": told[0].cost.model_dump(mode="json"),
        "steps": teller.seconds,
    }


def write_invented_farms(folder: Path) -> None:
    """The three invented farms, with prices of last month and, at one of them, of last year."""
    from tidy_crate.practice.demo.farms import write_farms

    today = date.today()
    write_farms(folder / "farms", (today - timedelta(days=20)).isoformat(), (today - timedelta(days=300)).isoformat())


def _relative(path: Path, folder: Path) -> str:
    return path.relative_to(folder).as_posix()


def _fresh(scene: DemoScene, folder: Path) -> None:
    """Begin at the beginning: decisions and caches of an earlier telling go, and a farm that still runs is stopped."""
    import shutil

    from tidy_crate.practice.farm.control import stop

    stop(folder / "practice-farm")
    for leftover in ("practice-farm", "frames", "delivery", CRATE, "lantern_quay.probe"):
        target = folder / leftover
        if target.is_symlink():
            raise WrongUsage(
                "the demo's folder holds a link where files would be written", target, "name an empty folder"
            )
        shutil.rmtree(target, ignore_errors=True)
    shutil.rmtree(scene.scene.parent / "lantern_quay.tidy", ignore_errors=True)


def _say(talk: Talk, folder: Path, scene: DemoScene) -> None:
    if talk.quiet or talk.as_json:
        return
    talk.out.print(Text("Lantern Quay: a night-ferry pier, 48 frames, and a few troubles planted in it.", style="bold"))
    talk.out.print(
        Text(f"It is in {folder}; the scene is {_relative(scene.scene, folder)}.", style="dim"),
        soft_wrap=True,
    )


def _end(talk: Talk, folder: Path, document: dict[str, Any]) -> None:
    if talk.quiet or talk.as_json:
        return
    from decimal import Decimal

    from tidy_crate.cli.show import facts, money

    currency, estimated = document["currency"], document["estimated"]
    low, high = (money(Decimal(estimated[key]), currency) for key in ("low", "high"))
    talk.out.print()
    talk.out.print(
        Text(f"Done: {document['counts']['good']} good frames in {document['frames']}", style="bold green"),
        soft_wrap=True,
    )
    facts(
        talk.out,
        [
            ("contact sheet", document["contact_sheet"]),
            ("report", document["report"]),
            ("cost", f"{money(Decimal(document['cost']), currency)}, one frame rendered twice"),
            ("estimate", f"{money(Decimal(estimated['likely']), currency)}, between {low} and {high}"),
            (
                "the farm",
                f"is stopped; `tidy-crate practice start --folder {folder / 'practice-farm'}` starts it again",
            ),
        ],
    )
