"""The errors a user can put right, in one tree.

KettlefieldError
├── InputError    plan, suite, weights or record: with the place in it
├── ServerError   would not start, broke off, spoke nonsense
└── RigError      isolation missing, probe refused, disk full
"""


class KettlefieldError(Exception):
    """Something the user can put right: what is wrong, where, and what to do."""

    def __init__(self, what: str, where: str, hint: str) -> None:
        super().__init__(what, where, hint)  # same arguments as __init__, so it pickles between processes
        self.what, self.where, self.hint = what, where, hint

    def __str__(self) -> str:
        return f"{self.where}: {self.what}. {self.hint}"


class InputError(KettlefieldError):
    """Bad usage or a bad file."""


class ServerError(KettlefieldError):
    """An inference server failed."""


class RigError(KettlefieldError):
    """The machine, or what is installed on it, failed."""
