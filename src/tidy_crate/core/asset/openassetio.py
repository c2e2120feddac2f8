"""The resolver for any asset system that speaks OpenAssetIO, the open standard between hosts and asset systems.

It is set up as in every host: the variable OPENASSETIO_DEFAULT_CONFIG names the file that says which manager is used.
Source: the OpenAssetIO documentation, "Initialization" and "Resolving a reference".
"""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from functools import cached_property
from importlib import import_module
from pathlib import Path
from typing import Any

from tidy_crate.core.asset.resolvers import Found

CONFIG = "OPENASSETIO_DEFAULT_CONFIG"
INSTALL = "pip install 'tidy-crate[openassetio]'"


class OpenAssetIO:
    """Resolves entity references for reading."""

    def is_active(self) -> bool:
        """See Resolver.is_active: it is set up by its own variable, whether its library is there or not."""
        return bool(os.environ.get(CONFIG))

    def knows(self, identifier: str) -> bool:
        """See Resolver.knows. Where the manager cannot be asked, everything may be its own, and is told so."""
        try:
            return bool(self._manager.isEntityReferenceString(identifier))
        except Exception:  # noqa: BLE001 - told by `resolve`, once for all
            return True

    def resolve(self, identifiers: Sequence[str], scene: Path) -> Mapping[str, Found | str]:
        """See Resolver.resolve."""
        access, converter = (
            _module("openassetio.access").ResolveAccess,
            _module("openassetio.utils").FileUrlPathConverter(),
        )
        location, version = _traits()
        found: dict[str, Found | str] = {}

        def on_success(at: int, data: Any) -> None:
            place = location(data).getLocation() if location.isImbuedTo(data) else None
            if not place:
                found[identifiers[at]] = "it has no place that a file could be at"
                return
            path = Path(converter.pathFromUrl(place)) if place.startswith("file:") else Path(place)
            stable = version(data).getStableTag() if version.isImbuedTo(data) else None
            found[identifiers[at]] = Found(path, str(stable or ""))

        def on_error(at: int, error: Any) -> None:
            found[identifiers[at]] = f"{self._manager.displayName()}: {error.message}"

        manager = self._manager
        references = [manager.createEntityReference(one) for one in identifiers]
        wanted = {location.kId, version.kId}
        manager.resolve(references, wanted, access.kRead, manager.createContext(), on_success, on_error)
        return found

    @cached_property
    def _manager(self) -> Any:
        try:
            host, log, system = (_module(f"openassetio.{name}") for name in ("hostApi", "log", "pluginSystem"))
        except ImportError as error:
            raise RuntimeError(f"{CONFIG} is set, and OpenAssetIO is not installed: {INSTALL}") from error

        # the interfaces of a library that may not be there are made when it is
        named = {"identifier": lambda self: "org.tidy-crate", "displayName": lambda self: "Tidy Crate"}
        own = type("Host", (host.HostInterface,), named)()
        # what matters comes as an error
        quiet = type("Quiet", (log.LoggerInterface,), {"log": lambda self, severity, message: None})()
        plugins = system.PythonPluginSystemManagerImplementationFactory(quiet)
        made = host.ManagerFactory.defaultManagerForInterface(own, plugins, quiet)
        if made is None:
            raise RuntimeError(f"{CONFIG} names no manager")
        return made


def _module(name: str) -> Any:
    """Import a part of the library, which is there only where it was asked for."""
    return import_module(name)


def _traits() -> tuple[Any, Any]:
    """Return the traits of a place and of a version, in the form that the installed version has them."""
    content, lifecycle = (_module(f"openassetio_mediacreation.traits.{name}") for name in ("content", "lifecycle"))
    return (
        getattr(content, "LocatableContentTrait_v1", None) or content.LocatableContentTrait,
        getattr(lifecycle, "VersionTrait_v1", None) or lifecycle.VersionTrait,
    )
