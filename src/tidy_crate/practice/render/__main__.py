"""The practice renderer's command line: `python -m tidy_crate.practice.render SCENE --frames 1-10 --into FOLDER`."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from tidy_crate.core.asset.frames import parse_frames
from tidy_crate.core.asset.sequences import FrameTokens
from tidy_crate.core.errors import TidyCrateError, WrongUsage


def main() -> int:
    """Render, and print a line per finished frame."""
    parser = argparse.ArgumentParser(prog="practice-render", description="Renders frames of an OpenUSD scene.")
    parser.add_argument("scene", type=Path)
    parser.add_argument("--frames", required=True, help="a frame list such as 1-10 or 1,5,9")
    parser.add_argument("--into", type=Path, required=True, help="folder for the frames, one folder per output in it")
    parser.add_argument("--camera", default="", help="prim path; empty for the camera that each output names")
    parser.add_argument("--width", type=int, default=0, help="0 for the scene's own")
    parser.add_argument("--height", type=int, default=0, help="0 for the scene's own")
    parser.add_argument("--samples", type=int, default=0, help="per pixel; 0 for the scene's own")
    parser.add_argument("--frame-token", action="append", default=[], metavar="TEXT=DIGITS", help="a project's own")
    words = parser.parse_args()
    try:
        # after the command line is known to be right: these take a moment to load
        from tidy_crate.core.work.request import View
        from tidy_crate.core.work.task import Task
        from tidy_crate.practice.render.renderer import Order, Rendered, render

        # what has come so far is the program's own start, and no loading of the scene
        print(f"practice renderer starts with {words.scene.name}", flush=True)

        def tell(done: Rendered) -> None:
            # processor time, as the practice farm bills it: whatever else the machine is doing meanwhile
            print(f"frame {done.task.frame} done in {done.cpu_seconds:.4f} s", flush=True)

        view = {"": View(name="camera", camera=words.camera)} if words.camera else {}
        render(
            Order(
                scene=words.scene,
                tasks=tuple(Task("main", frame) for frame in parse_frames(words.frames)),
                into=words.into,
                width=words.width or None,
                height=words.height or None,
                samples=words.samples or None,
                views=view,
                tokens=_tokens(words.frame_token),
            ),
            tell,
        )
    except TidyCrateError as error:
        print(f"practice-render: {error}", file=sys.stderr)
        return error.exit_code
    return 0


def _tokens(texts: list[str]) -> FrameTokens:
    found = {}
    for text in texts:
        token, equals, digits = text.rpartition("=")
        if not (token and equals and digits.isdigit()):
            raise WrongUsage("not a frame token", repr(text), "write TEXT=DIGITS, such as $F4=4")
        found[token] = int(digits)
    return FrameTokens.of(found)


if __name__ == "__main__":
    sys.exit(main())
