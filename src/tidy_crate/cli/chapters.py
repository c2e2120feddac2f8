"""The chapters of the demo: the commands of the whole way, why each is run, and what a chapter shows."""

from __future__ import annotations

from dataclasses import dataclass

from tidy_crate.practice.demo.night import LIST, PROJECT

# planted at the farm: one frame comes out black, another is damaged on its way home
BLACK, DAMAGED = 1020, 1033
FARMS = ("--farm", "gullwing", "--farm", "ninepins", "--farm", "saltmarsh")
# in the words of a step: the job that was sent last
JOB = "JOB"
# in the words of a step: the command that the estimate recommends
ADVISED = "ADVISED"
BUDGET = "3 EUR"
# the shot of the night that needs a decision
WAITS = f"{PROJECT}/shots/quay_040/quay_040_v001.usda"


@dataclass(frozen=True)
class Step:
    """One command."""

    why: str
    words: tuple[str, ...]
    expect: int = 0
    """The exit code that it ends with."""


@dataclass(frozen=True)
class Chapter:
    """Some commands, and what they show."""

    title: str
    steps: tuple[Step, ...]
    moral: str


def chapters(scene: str, crate: str, card: str, project: str) -> tuple[Chapter, ...]:
    """Return the chapters. scene, crate, card: paths from the demo's folder. project: absolute path of the project."""
    return (
        Chapter(
            "What is in it",
            (
                Step("What is in the scene?", ("survey", scene)),
                Step(
                    "Would its frames come out the same on any machine? No: simulations start again on each.",
                    ("bake", scene, "--order-proof"),
                    expect=1,
                ),
                Step("What else would go wrong?", ("check", scene), expect=1),
            ),
            "A scene that renders at the artist's desk does not yet render on a farm.",
        ),
        Chapter(
            "Made ready",
            (
                Step(
                    "Find the missing files: one was moved, one has the drive letter of another machine.",
                    ("relink", scene, "--look-in", "archive", "--map", f"Q:\\lantern_quay={project}", "--apply"),
                ),
                Step("Bake all simulations: one pass each from its own start, kept in caches.", ("bake", scene)),
                Step("Prove that the order of the frames no longer matters.", ("bake", scene, "--order-proof")),
                Step(
                    "Fix what needs no decision: a path, a frame number, the size left from a test.",
                    ("check", scene, "--mend"),
                ),
                Step(
                    "Two warnings are left. Accept each, for a reason that travels with the job.",
                    ("waive", scene, "output-colour-space-unset", "--because",
                     "the show grades scene-linear frames as they are", "--by", "Wren"),
                ),
                Step(
                    "The other one.",
                    ("waive", scene, "scene-autosave-newer", "--because",
                     "opened it: nothing but a moved viewport in it", "--by", "Wren"),
                ),
            ),
            "Whatever depends on the frame before belongs in a cache, and whatever is accepted has a reason.",
        ),
        Chapter(
            "Packed, and proven",
            (
                Step("Collect it: one folder that holds all of it. The originals are only read.",
                     ("collect", scene, "-o", crate)),
                Step("Prove that nothing is missing, in a sandbox that can read nothing else.", ("prove", crate)),
                Step(
                    "Which of three farms can render it? One can, one has a warning, one may not see it.",
                    ("check", crate, *FARMS),
                    expect=1,
                ),
            ),
            "A copy is complete when it has been opened away from the originals, and not before.",
        ),
        Chapter(
            "What it will cost",
            (
                Step("Render a few test frames here, and time them.", ("probe", crate)),
                Step(
                    "Start the practice farm. Two faults are planted: a black frame, and one damaged on its way home.",
                    ("practice", "start", "--folder", "practice-farm", "--fault", f"black:{BLACK}:Beauty",
                     "--fault", f"damaged:{DAMAGED}:Beauty"),
                ),
                Step(f"What will it cost there, and what is the fastest way for up to {BUDGET}?",
                     ("estimate", crate, "--farm", card, "--budget", BUDGET)),
                Step(
                    "And in full HD, at the three farms?",
                    ("estimate", crate, *FARMS, "--what-if", "size=600%", "--accept-practice-timings", "--parts",
                     "--plot", "estimate.png"),
                ),
            ),
            "A price is a range, and the cheapest hour is not the cheapest job.",
        ),
        Chapter(
            "Sent",
            (
                Step("Send it as the estimate says. The farm reads the crate for itself before anything renders.",
                     (ADVISED, "--yes")),
                Step("Bring every frame home as soon as it is rendered.",
                     ("retrieve", JOB, "--into", "frames", "--follow")),
                Step("How did the farm do?", ("track", JOB)),
            ),
            "A frame is safe when it is verified at home. The damaged one was fetched again by itself.",
        ),
        Chapter(
            "Every frame looked at",
            (
                Step("Review every frame. One is black.", ("review", JOB), expect=1),
                Step("Render that one again, on its own number.", ("rerender", JOB, "--yes")),
                Step("Wait for it, and bring it home.", ("retrieve", JOB, "--into", "frames", "--follow")),
                Step("Review again, and draw a contact sheet.", ("review", JOB, "--sheet", "contact-sheet.png")),
            ),
            "Only what is bad is paid for twice, and no one has to find it by eye.",
        ),
        Chapter(
            "Delivered",
            (
                Step("Write the frames as the brief orders them, with their digests.",
                     ("deliver", JOB, "-o", "delivery")),
                Step("How did the estimate do?", ("estimate", "--accuracy")),
                Step("Write the record: what was asked, found, rendered again and paid.",
                     ("report", JOB, "-o", "report.html")),
            ),
            "Every finished job makes the next estimate better.",
        ),
        Chapter(
            "All of it by itself",
            (
                Step(
                    "Carry three more shots from the saved file to delivered frames, by one line. One needs you.",
                    ("carry", LIST, "--page", "night.html"),
                    expect=1,
                ),
                Step(
                    "A poster is nowhere. Decide: it is left out.",
                    ("relink", WAITS, "--let-go", "../../textures/poster.png",
                     "--because", "the poster was cut from the show"),
                ),
                Step("The same line goes on from there. What was done is not done again.",
                     ("carry", LIST, "--page", "night.html")),
            ),
            "What needs no decision needs nobody. What does waits, and holds up nothing else.",
        ),
    )  # fmt: skip
