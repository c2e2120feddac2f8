"""Pages: a template of this package, filled in."""

from __future__ import annotations

from typing import Any


def filled(template: str, **values: Any) -> bytes:
    """Return a page as UTF-8. What is filled in is escaped; a name that is not given is an error."""
    from jinja2 import Environment, PackageLoader, StrictUndefined

    templates = Environment(
        loader=PackageLoader("tidy_crate.cli"), autoescape=True, undefined=StrictUndefined, trim_blocks=True,
        lstrip_blocks=True,
    )  # fmt: skip
    return templates.get_template(template).render(**values).encode()
