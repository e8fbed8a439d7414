"""The kinds of checks that there are.

A kind is a module of this package with a ``CheckKind``; modules of third parties add theirs through the entry-point
group ``kettlefield.checks``.
"""

from kettlefield.grading.checks.kind import CheckKind
from kettlefield.registry import Registry
from kettlefield.suite.check_form import kind_name
from kettlefield.suite.format import Check

CHECKS: Registry[CheckKind] = Registry(CheckKind, package="kettlefield.grading.checks", group="kettlefield.checks")


def kind_of(check: Check) -> CheckKind:
    """The kind of a check."""
    return CHECKS[kind_name(check)]
