"""The stopwatch's own error on this rig, below which no duration is printed as a figure."""

from dataclasses import dataclass

from kettlefield.core.estimate import Estimate
from kettlefield.core.measures import Unit
from kettlefield.core.units import format_duration
from kettlefield.core.wording import in_unit, with_interval
from kettlefield.record.store import Record


@dataclass(frozen=True, slots=True)
class Floor:
    """None: the campaign ran without a calibration."""

    seconds: float | None

    def show(self, found: Estimate | float | None) -> str:
        """A duration, or ``< floor`` with the floor."""
        value = found.value if isinstance(found, Estimate) else found
        if value is not None and self.seconds is not None and value < self.seconds:
            return f"< {format_duration(self.seconds)}"
        return with_interval(found, Unit.SECONDS) if isinstance(found, Estimate) else in_unit(found, Unit.SECONDS)

    def words(self) -> str:
        """What a reader should know of it."""
        if self.seconds is None:
            return "The stopwatch was not calibrated on this rig: run `kettlefield calibrate` before the next campaign."
        return f"The stopwatch's own error on this rig: up to {format_duration(self.seconds)} (99 of 100 events)."


def floor_of(record: Record) -> Floor:
    """The floor of a record's campaign: the 99th percentile of the error with one stream."""
    from kettlefield.analysis.frames import campaign_facts  # noqa: PLC0415 - pandas takes half a second

    found = campaign_facts(record)["rig"].get("calibration")
    return Floor(float(found["floor_s"]) if found else None)
