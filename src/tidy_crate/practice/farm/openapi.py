"""Prints the OpenAPI description of the farm protocol: `python -m tidy_crate.practice.farm.openapi`."""

from __future__ import annotations

import json
import sys
import tempfile
from pathlib import Path
from typing import Any

from tidy_crate.practice.farm.scheduler import Scheduler
from tidy_crate.practice.farm.service import make_app
from tidy_crate.practice.farm.settings import FarmSettings
from tidy_crate.practice.farm.store import Store


def description() -> dict[str, Any]:
    """The description, as the practice farm serves it."""
    with tempfile.TemporaryDirectory(prefix="tidy-crate-openapi-") as name:
        folder, settings = Path(name), FarmSettings(nodes=1)
        store = Store(folder / "farm.sqlite")
        try:
            scheduler = Scheduler(folder, store, settings, gone=lambda: None)
            return make_app(folder, settings, store, scheduler, "", stop=lambda: None).openapi()
        finally:
            store.close()


if __name__ == "__main__":
    sys.stdout.write(json.dumps(description(), indent=1) + "\n")
