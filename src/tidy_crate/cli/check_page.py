"""The findings as one HTML page that needs nothing beside it."""

from __future__ import annotations

from pathlib import Path

from tidy_crate import __version__
from tidy_crate.cli.check_view import TITLES, groups, headline, obstacle
from tidy_crate.cli.html import filled
from tidy_crate.cli.show import money
from tidy_crate.core.check.finding import Next
from tidy_crate.core.check.result import CheckResult
from tidy_crate.core.outputs import write_output


def write_page(path: Path, result: CheckResult) -> None:
    """Write the page. Names from the scene are shown as they are, and never run as part of the page."""
    own = groups(one for one in result.findings if not one.waived and one.farm is None)
    standing = [one for one in result.findings if not one.waived]
    page = filled(
        "check.html.j2",
        version=__version__,
        scene=result.scene.name,
        folder=str(result.scene.parent),
        blocked=result.blocked,
        headline=headline(result),
        sections=[section for section in own if section[0] is not Next.NOTHING],
        notes=[section for section in own if section[0] is Next.NOTHING],
        titles=TITLES,
        farms=[
            {
                "name": farm.title,
                "verdict": _verdict(farm.blocked, farm.warnings),
                "machines": farm.machines,
                "cost": money(farm.cost, farm.currency) if farm.cost is not None else "",
                "obstacle": obstacle(result, farm),
                "findings": [one for one in standing if one.farm == farm.farm],
            }
            for farm in result.farms
        ],
        settled=result.settled,
        mends={(one.code, one.subject): one.because for one in result.mends},
        waived=[one for one in result.findings if one.waived],
        unused=result.unused_waivers,
        accepted=result.accepted,
    )
    write_output(path, page)


def _verdict(blocked: bool, warnings: int) -> str:
    return "blocked" if blocked else "look first" if warnings else "ready"
