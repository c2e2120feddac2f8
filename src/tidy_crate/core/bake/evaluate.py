"""Evaluates frames in the order given, in a process of its own: `python -m tidy_crate.core.bake.evaluate`.

Reads scene, plan, frames and the project's frame tokens as JSON from standard input, and writes digests as JSON.
"""

from __future__ import annotations

import json
import sys
from pathlib import Path

from tidy_crate.core.asset.sequences import FrameTokens
from tidy_crate.core.errors import TidyCrateError, WrongUsage
from tidy_crate.core.process import end_with_waiting_caller
from tidy_crate.core.scene.formats.registry import format_of
from tidy_crate.core.scene.staging import StagingPlan


def main() -> int:
    """Answer one question."""
    end_with_waiting_caller()
    question = json.load(sys.stdin)
    scene, plan = Path(question["scene"]), StagingPlan.model_validate(question["plan"])
    try:
        baker = format_of(scene).baker()
        if baker is None:
            raise WrongUsage("scenes of this format have no simulations", scene)
        json.dump(baker.digests(scene, plan, question["frames"], FrameTokens.of(question["tokens"])), sys.stdout)
    except TidyCrateError as error:
        sys.stderr.write(str(error))
        return error.exit_code
    return 0


if __name__ == "__main__":
    sys.exit(main())
