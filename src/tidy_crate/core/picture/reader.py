"""The process that reads frames for `readers`: an order on each line of its input, an answer on each of its output."""

from __future__ import annotations

import base64
import json
import os
import sys
from pathlib import Path
from typing import Any

from tidy_crate.core.picture.decode import reads_to_the_end
from tidy_crate.core.picture.judge import Expected, judge_file
from tidy_crate.core.picture.thumbnail import thumbnail
from tidy_crate.core.process import end_with_caller


def answer(order: dict[str, Any]) -> Any:
    """Carry out one order. None where a frame that was to be shrunk cannot be read."""
    path = Path(order["path"])
    if order["do"] == "judge":
        return judge_file(path, Expected.model_validate(order["expected"])).model_dump(mode="json")
    if order["do"] == "whole":
        return reads_to_the_end(path)
    try:
        small = thumbnail(path, order["width"], order["height"])
    except Exception:  # noqa: BLE001 - what is wrong with a frame is in its verdict; here it has no picture
        return None
    return {"width": small.width, "height": small.height, "pixels": base64.b64encode(small.pixels).decode()}


def main() -> None:
    """Answer until the input ends."""
    import OpenEXR

    end_with_caller()
    OpenEXR.set_global_thread_count(int(sys.argv[1]) if int(sys.argv[1]) > 1 else 0)
    # what the libraries print must not get between the answers
    with os.fdopen(os.dup(1), "wb") as out:
        sink = os.open(os.devnull, os.O_WRONLY)
        os.dup2(sink, 1)
        os.dup2(sink, 2)
        for line in sys.stdin.buffer:
            try:
                said = {"answer": answer(json.loads(line))}
            except Exception as error:  # noqa: BLE001 - told to the process that asked, which raises it
                said = {"error": f"{type(error).__name__}: {error}"}
            out.write(json.dumps(said).encode() + b"\n")
            out.flush()


if __name__ == "__main__":
    main()
