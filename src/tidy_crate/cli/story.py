"""The demo's story: every step is the very command that a user would type, run as a program of its own."""

from __future__ import annotations

import os
import shlex
import subprocess
import sys
import time
from dataclasses import dataclass, field
from datetime import date, timedelta
from pathlib import Path
from typing import Any

from rich.text import Text

from tidy_crate import api
from tidy_crate.cli.talk import Talk
from tidy_crate.core.errors import TidyCrateError, WrongUsage
from tidy_crate.core.work.attempt import Verdict
from tidy_crate.practice.demo.scene import DemoScene, write_demo_scene

# planted at the farm: one frame comes out black, another is damaged on its way home
BLACK, DAMAGED = 1020, 1033
BATCH = 4


@dataclass
class _Teller:
    talk: Talk
    folder: Path
    number: int = 0
    seconds: dict[str, float] = field(default_factory=dict)

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
        done = subprocess.run(
            [sys.executable, "-P", "-m", "tidy_crate", *words],
            cwd=self.folder,
            check=False,
            capture_output=silent,
            stdin=subprocess.DEVNULL,
        )
        self.seconds[f"{self.number} {words[0]}"] = round(time.perf_counter() - began, 2)
        if done.returncode != expect:
            detail = done.stderr.decode("utf-8", "replace").strip()[-500:] if silent else None
            command = "tidy-crate " + " ".join(words)
            raise TidyCrateError(
                f"the demo stopped: a step ended with {done.returncode}, not {expect}", command, detail
            )

    @staticmethod
    def _shown(word: str) -> str:
        return shlex.quote(word) if os.name != "nt" else word


def tell(talk: Talk, folder: Path) -> dict[str, Any]:
    """Tell the whole story in `folder`. Returns what it came to."""
    scene = write_demo_scene(folder)
    write_invented_farms(folder)
    # the demo has just written the command that renders its scene
    api.trust(scene.project)
    _fresh(scene, folder)
    teller = _Teller(talk, folder)
    _say(talk, folder, scene)
    farm = folder / "practice-farm"
    try:
        document = _steps(teller, scene, folder, farm)
    finally:
        # a machine left running is just what this tool is against
        from tidy_crate.practice.farm.control import stop

        stop(farm)
    _end(talk, folder, document)
    return document


def _steps(teller: _Teller, scene: DemoScene, folder: Path, farm: Path) -> dict[str, Any]:
    file = _relative(scene.scene, folder)
    step = teller.step
    step("What is in the scene?", "survey", file)
    step("Would its frames come out the same on any machine? No: the camera's spring starts again on each.",
         "bake", file, "--order-proof", expect=1)  # fmt: skip
    step("What else would go wrong?", "check", file, expect=1)
    step("Find the missing files: one was moved, one is named by the drive of another machine.",
         "relink", file, "--look-in", "archive",
         "--map", f"Q:\\lantern_quay={scene.project.as_posix()}", "--apply")  # fmt: skip
    step("Bake all simulations: one pass each from its own start, kept in caches.", "bake", file)
    step("Prove again that order no longer matters.", "bake", file, "--order-proof")
    step("Fix what needs no decision: a path, a frame number, the size left from a test.",
         "check", file, "--mend")  # fmt: skip
    step(
        "Two warnings are left. Accept each, for a reason that travels with the job.",
        "waive",
        file,
        "output-colour-space-unset",
        "--because",
        "the show grades scene-linear frames as they are",
        "--by",
        "Wren",
    )
    step(
        "The other one.",
        "waive",
        file,
        "scene-autosave-newer",
        "--because",
        "opened it: nothing but a moved viewport in it",
        "--by",
        "Wren",
    )
    step("Check again.", "check", file)
    crate = _relative(folder / "lantern_quay.crate", folder)
    step("Pack it: one folder that holds all of it, the originals untouched.", "collect", file, "-o", crate)
    step("Which of three farms can render it? One can, one has a warning, one may not see it.",
         "check", crate, "--farm", "gullwing", "--farm", "ninepins", "--farm", "saltmarsh", expect=1)  # fmt: skip
    step("Prove that nothing is missing, in a sandbox that can read nothing else.", "prove", crate)
    step("Start the practice farm. Two faults are planted: a black frame, and one damaged on its way home.",
         "practice", "start", "--folder", "practice-farm",
         "--fault", f"black:{BLACK}:Beauty", "--fault", f"damaged:{DAMAGED}:Beauty")  # fmt: skip
    card = _relative(farm / "practice.farm.toml", folder)
    step("Render a few test frames here and time them.", "probe", crate)
    step("What will it cost, and when is it done?", "estimate", crate, "--farm", card)
    step("And in full HD, at the three farms? The cheapest by the hour is the dearest for this job.",
         "estimate", crate, "--farm", "gullwing", "--farm", "ninepins", "--farm", "saltmarsh",
         "--what-if", "scale=600%", "--accept-practice-timings", "--parts", "--plot", "estimate.png")  # fmt: skip
    step("Send it. The farm reads the crate for itself before anything renders.",
         "send", crate, "--farm", card, "--batch", str(BATCH), "--yes")  # fmt: skip
    job = api.jobs()[0].job
    step("Bring every frame home as soon as it is rendered.", "retrieve", job, "--into", "frames", "--follow")
    step("How did the farm do?", "track", job)
    step("Look at every frame. One is black.", "review", job, expect=1)
    step("Render that one again, on its own number.", "rerender", job, "--yes")
    step("Wait for it, and bring it home.", "retrieve", job, "--into", "frames", "--follow")
    step("Look again, and draw a contact sheet.", "review", job, "--sheet", "contact-sheet.png")
    step("Write them as the brief orders them, with their digests.", "deliver", job, "-o", "delivery")
    step("How did the estimate do?", "estimate", "--accuracy")
    step("Write the record: what was asked, found, rendered again and paid.", "report", job, "-o", "report.html")
    return _outcome(teller, job, folder)


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
    for leftover in ("practice-farm", "frames", "lantern_quay.crate", "lantern_quay.probe"):
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
