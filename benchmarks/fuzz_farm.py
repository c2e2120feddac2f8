"""Property-based testing of the practice farm against its own OpenAPI description, by schemathesis (pip install it).

    python benchmarks/fuzz_farm.py [EXAMPLES]

Starts a farm on loopback, sends EXAMPLES generated requests to each operation, and stops it. No answer may be a 5xx,
and every answer must be documented.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path

from tidy_crate.core.files import read_json
from tidy_crate.practice.farm import control
from tidy_crate.practice.farm.settings import FarmSettings

# whether valid data is accepted depends on crates and jobs that are not there; a number may also be given as `true`
LEFT_OUT = "positive_data_acceptance,negative_data_rejection,unsupported_method"


def main() -> int:
    """Run it."""
    examples = sys.argv[1] if len(sys.argv) > 1 else "25"
    with tempfile.TemporaryDirectory(prefix="tidy-crate-fuzz-farm-") as name:
        farm = Path(name)
        control.start(farm, FarmSettings(nodes=2))
        try:
            url = read_json(farm / control.RUNNING, "state")["url"]
            token = (farm / "token").read_text().strip()
            line = [
                "schemathesis", "run", f"{url}/openapi.json", "--header", f"Authorization: Bearer {token}",
                "--max-examples", examples, "--workers", "1", "--exclude-checks", LEFT_OUT,
            ]  # fmt: skip
            return subprocess.run(line, check=False).returncode
        finally:
            control.stop(farm)


if __name__ == "__main__":
    sys.exit(main())
