"""Licences: what a file writes, as SPDX; and whether a policy allows it."""

from collections.abc import Collection
from functools import cache
from typing import Any

from kettlefield.core.errors import InputError
from kettlefield.weights.facts import Licence

MAX_CHARS = 300  # a licence expression, not a licence text


@cache
def _spdx() -> Any:
    from license_expression import get_spdx_licensing  # noqa: PLC0415 - reads its index, a twentieth of a second

    return get_spdx_licensing()


def read_licence(written: object) -> Licence:
    """A licence as a header gives it; text that SPDX does not know is kept as written, with no SPDX form."""
    if not isinstance(written, str) or not written.strip():
        return Licence(written=None, spdx=None)
    text = written.strip()[:MAX_CHARS]
    return Licence(written=text, spdx=_parse(text))


def is_allowed(licence: Licence, allowed: Collection[str]) -> bool | None:
    """Whether a policy of SPDX identifiers allows a licence; None when the file gives none that SPDX knows.

    ``A OR B`` is allowed when either is, ``A AND B`` when both are.
    """
    if licence.spdx is None:
        return None
    expression = _spdx().parse(licence.spdx)
    names = {name.lower() for name in allowed}
    return _holds(expression, names)


def check_policy(allowed: Collection[str]) -> None:
    """Refuse a policy that names what SPDX does not know.

    Raises
    ------
    InputError
        An identifier is unknown.
    """
    for name in allowed:
        if _parse(name) is None:
            raise InputError(f'"{name}" is no SPDX licence', "allowed licences", "Write SPDX identifiers, such as MIT.")


def _holds(expression: Any, names: set[str]) -> bool:
    if expression.isliteral:
        return str(expression).lower() in names
    parts = [_holds(part, names) for part in expression.args]
    return any(parts) if expression.operator.strip() == "OR" else all(parts)


def _parse(text: str) -> str | None:
    from license_expression import ExpressionError, ExpressionParseError  # noqa: PLC0415

    try:
        info = _spdx().validate(text)
        return None if info.errors else str(_spdx().parse(text))
    except (ExpressionError, ExpressionParseError, ValueError, AttributeError, TypeError, RecursionError):
        return None
