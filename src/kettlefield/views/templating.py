"""Templates for pages: whatever comes from a model, a server or a plan is escaped, and made visible."""

from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup

from kettlefield.core.plaintext import visible


def make_environment() -> Environment:
    """An environment whose autoescape is on for everything, not by file name."""
    return Environment(
        loader=PackageLoader("kettlefield.views"),
        autoescape=True,
        undefined=StrictUndefined,
        finalize=_finalize,
        trim_blocks=True,
        lstrip_blocks=True,
    )


def _finalize(value: object) -> object:
    """Whatever is written to the page: control and direction characters of others are made visible."""
    return visible(value) if isinstance(value, str) and not isinstance(value, Markup) else value
