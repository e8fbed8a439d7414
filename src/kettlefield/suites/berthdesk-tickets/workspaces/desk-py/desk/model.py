"""What the desk works with."""

from dataclasses import dataclass


@dataclass(frozen=True)
class Sailing:
    """One departure; times are minutes after midnight."""

    number: str
    vessel: str
    leaves: int
    berth: str
    length: int  # of the vessel, metres


@dataclass(frozen=True)
class Booking:
    """One booking."""

    number: str
    sailing: str
    adults: int
    children: int
    vehicle: str  # "none", "car" or "van"
    stamps: int  # on the loyalty card


@dataclass(frozen=True)
class Duty:
    """One duty of one person; it may end after midnight, then ends is above 1440."""

    name: str
    begins: int
    ends: int
