"""Pages: a template of this package, filled in."""

from __future__ import annotations

from typing import Any

from tidy_crate.cli.text import clean


def filled(template: str, **values: Any) -> bytes:
    """Return a page as UTF-8. What is filled in is escaped; a name that is not given is an error."""
    from jinja2 import Environment, PackageLoader, StrictUndefined

    templates = Environment(
        loader=PackageLoader("tidy_crate.cli"), autoescape=True, undefined=StrictUndefined, trim_blocks=True,
        lstrip_blocks=True,
        # names may hold characters that turn the direction of what follows
        finalize=lambda value: clean(value) if isinstance(value, str) and not hasattr(value, "__html__") else value,
    )  # fmt: skip
    templates.filters["clean"] = clean
    return templates.get_template(template).render(**values).encode("utf-8", "backslashreplace")
