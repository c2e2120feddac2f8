"""Path of each source file in the crate: a pure function of the scene, never of the machine."""

from __future__ import annotations

import os
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path, PurePosixPath

from tidy_crate.core.asset import paths
from tidy_crate.core.context.project import Project
from tidy_crate.core.files import is_plain, legible, plain_name
from tidy_crate.core.garbage import no_garbage_collection
from tidy_crate.core.scene.model import Asset, Survey
from tidy_crate.core.scene.staging import StagingPlan, UseCache


@dataclass
class Layout:
    """Layout of a crate."""

    crate_paths: dict[Path, PurePosixPath] = field(default_factory=dict)
    """Path in the crate of every source file and set pattern."""
    sources: dict[Path, str] = field(default_factory=dict)
    """The note of each file's origin."""
    _taken: dict[str, Path] = field(default_factory=dict)
    _outside: dict[Path, str] = field(default_factory=dict)

    def put(self, path: Path, root: Path, roots: dict[str, Path]) -> None:
        """Give a file its place: as in the project, else below its root's alias, else in a folder of its own."""
        if path in self.crate_paths:
            return
        # by text: asked for every file of a scene, and taking paths apart is slow
        whole, lead = str(path), _lead(root)
        if whole.startswith(lead):
            crate_path = PurePosixPath(_posix(whole[len(lead) :]))
            source = f"project:{crate_path}"
        else:
            alias = next((name for name, folder in roots.items() if path.is_relative_to(folder)), None)
            if alias is not None:
                inner = path.relative_to(roots[alias]).as_posix()
                crate_path, source = PurePosixPath("roots", alias, inner), f"{alias}:{inner}"
            else:
                crate_path = PurePosixPath("elsewhere", self._label(path.parent), path.name)
                source = str(crate_path).replace("elsewhere/", "elsewhere:", 1)
        self.claim(path, crate_path, source)

    def claim(self, path: Path, crate_path: PurePosixPath, source: str) -> None:
        """Take a place; one that differs from a taken one in case or Unicode form is the same file on some systems."""
        if not is_plain(str(crate_path)):
            crate_path = PurePosixPath(*map(plain_name, crate_path.parts))
        free, number = crate_path, 2
        while self._taken.setdefault(paths.folded(str(free)), path) != path:
            free, number = crate_path.parent / f"{crate_path.stem}-{number}{crate_path.suffix}", number + 1
        self.crate_paths[path], self.sources[path] = free, legible(source)

    def _label(self, folder: Path) -> str:
        """A short name for a folder outside the project, by its own name and the order it was met in."""
        if folder not in self._outside:
            base = paths.file_name(folder.as_posix()) or "root"
            base = "".join(c if c.isalnum() or c in "._-" else "_" for c in base)[:60]
            taken, label, number = set(self._outside.values()), base, 2
            while label in taken:
                label, number = f"{base}-{number}", number + 1
            self._outside[folder] = label
        return self._outside[folder]


def lay_out(survey: Survey, plan: StagingPlan, project: Project) -> Layout:
    """Places for the scene, everything it names that is there, and its caches."""
    with no_garbage_collection():
        return _lay_out(survey, plan, project)


def _lay_out(survey: Survey, plan: StagingPlan, project: Project) -> Layout:
    layout = Layout()
    root = project.root or scene_root(survey)
    roots = project.roots
    layout.put(survey.scene, root, roots)
    caches = {edit.layer: edit for edit in plan.of(UseCache)}
    for cache, edit in sorted(caches.items()):
        for file in (cache, *(part for part in sorted(edit.files) if part.is_file())):
            # a cache finds its parts by their place beside it
            name = file.relative_to(cache.parent).as_posix()
            layout.claim(file, PurePosixPath("caches", name), f"caches:{name}")
    for asset in survey.assets:
        for member in asset.members:
            layout.put(member.path, root, roots)
        if asset.resolved is not None and asset.members and asset.resolved not in layout.crate_paths:
            # a set's pattern is where its members are
            folder = layout.crate_paths[asset.members[0].path].parent
            layout.crate_paths[asset.resolved] = folder / plain_name(asset.resolved.name)
    for asset in survey.assets:
        _inside_package(asset, layout)
    return layout


def _inside_package(asset: Asset, layout: Layout) -> None:
    """Give a file that a package should hold, and does not, its path inside the package."""
    text = "" if asset.resolved is None else asset.resolved.as_posix()
    packaged = paths.split_package(text)
    if asset.resolved is None or packaged is None or asset.resolved in layout.crate_paths:
        return
    outer = layout.crate_paths.get(Path(packaged[0]))
    if outer is not None:
        layout.crate_paths[asset.resolved] = PurePosixPath(f"{outer}{text[len(packaged[0]) :]}")


@lru_cache(16)
def _lead(folder: Path) -> str:
    """Return what the path of everything in a folder begins with."""
    text = str(folder)
    return text if text.endswith(os.sep) else text + os.sep


def _posix(text: str) -> str:
    return text if os.sep == "/" else text.replace(os.sep, "/")


def scene_root(survey: Survey) -> Path:
    """The folder that stands for the project where no project file says so.

    The scene's own folder, or as far above it as its relative paths reach, but never a home or a root folder.
    """
    root = survey.scene.parent
    for asset in survey.assets:
        if not asset.members or asset.relinked or not _is_relative(asset):
            continue
        if str(asset.members[0].path).startswith(_lead(root)):
            continue
        common = Path(os.path.commonpath([root, asset.members[0].path]))
        if len(common.parts) > 2 and common != Path.home():
            root = common
    return root


def _is_relative(asset: Asset) -> bool:
    return not paths.is_absolute(asset.value)
