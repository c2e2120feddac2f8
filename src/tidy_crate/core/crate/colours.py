"""A few colours as the colour configurations of a scene change them: the same in the scene and in its crate."""

from __future__ import annotations

import stat
from pathlib import Path

from tidy_crate.core.scene.model import Survey

# a look-up table that is larger was not written to be read for each colour space
MOST_BYTES = 256 << 20


def colour_outcomes(survey: Survey, crate_paths: dict[Path, str]) -> dict[str, dict[str, tuple[float, ...]]]:
    """Return by configuration, as it is called in the crate, what `ocio.outcomes` says of it.

    Left out is one that names anything but plain files of a usual size, since all of them are read.
    """
    from tidy_crate.core.asset.follow import ocio

    found: dict[str, dict[str, tuple[float, ...]]] = {}
    configurations = {
        member.path
        for asset in survey.assets
        if asset.needed
        for member in asset.members
        if member.path.suffix.lower() in ocio.ColourConfiguration.suffixes and member.path in crate_paths
    }
    for path in configurations:
        tables = {member.path for asset in survey.assets if asset.layer == path for member in asset.members}
        if not all(_plain(one) for one in tables):
            continue
        try:
            found[crate_paths[path]] = ocio.outcomes(path)
        except (OSError, ValueError):
            # told by survey and check as a file that cannot be read
            continue
    return found


def _plain(path: Path) -> bool:
    try:
        about = path.stat()
    except OSError:
        return False
    return stat.S_ISREG(about.st_mode) and about.st_size <= MOST_BYTES
