"""Lets `python -m tidy_crate` run the program."""

import sys
from pathlib import Path

# with -m Python looks into the folder that one stands in before all others: what was received from somebody may hold
# modules and entry points of its own, and nothing of it is to be run
_HERE, _OWN = Path.cwd(), Path(__file__).resolve().parents[1]
if sys.path and Path(sys.path[0] or ".").resolve() == _HERE.resolve() != _OWN:
    del sys.path[0]

from tidy_crate.cli.app import main  # noqa: E402

if __name__ == "__main__":
    main()
