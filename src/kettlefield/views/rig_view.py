"""The rig, and what its instruments' own error is."""

from collections.abc import Sequence
from typing import Any

import msgspec

from kettlefield.core.units import format_bytes
from kettlefield.measure.calibration import Calibration
from kettlefield.rig.survey import RigFacts
from kettlefield.views.table import Align, Column, Table, View, Words, count, percent, present, size, table, words


def rig_view(
    facts: RigFacts, *, bandwidth: float, disk: float | None, isolation: dict[str, Any], stopwatch: str
) -> View:
    """What this machine is, and what is missing.

    Parameters
    ----------
    facts : RigFacts
        As surveyed.
    bandwidth, disk : float
        Bytes a second of memory and of a disk, measured; a disk only where one was named.
    isolation : dict
        Which isolation works, what it lacks, and whether a control group bounds memory.
    stopwatch : str
        When it was calibrated, and to what floor.
    """
    missing = [f"missing: {language}; install it: {remedy}" for language, remedy in facts.missing.items()]
    if isolation["fault"]:
        missing.append(f"missing: {isolation['fault']}")
    return View(
        title="",
        simulated=False,
        parts=present(
            table("This rig", [words("what"), words("found")], _rows(facts, bandwidth, disk, isolation, stopwatch)),
            *(Words(text=text, tone="warning") for text in missing),
        ),
        document={
            **msgspec.to_builtins(facts),
            "memory_bandwidth_bytes_s": bandwidth,
            "disk_read_bytes_s": disk,
            "isolation": isolation,
        },
    )


def _rows(
    facts: RigFacts, bandwidth: float, disk: float | None, isolation: dict[str, Any], stopwatch: str
) -> list[tuple[str, str]]:
    host = facts.host
    lacks = f", lacks: {'; '.join(isolation['lacks'])}" if isolation["lacks"] else ""
    bounded = "by a control group and by sampling" if isolation["memory_group"] else "by sampling alone"
    cards = [
        (
            "accelerator",
            f"{card.name}, {format_bytes(card.used_bytes)} of {format_bytes(card.memory_bytes)} in use, driver "
            f"{card.driver}",
        )
        for card in facts.accelerators
    ]
    return [
        ("processor", f"{host.cpu}, {host.cores} cores, {host.threads} threads"),
        ("memory", f"{format_bytes(host.memory_bytes)}, {format_bytes(facts.available_bytes)} available now"),
        (
            "memory bandwidth",
            f"{format_bytes(round(bandwidth))}/s, measured: bytes read and written by a copy on all cores",
        ),
        ("system", f"{host.system}, kernel {host.kernel}"),
        *([("disk", f"{format_bytes(round(disk))}/s read, measured")] if disk is not None else []),
        *(cards or [("accelerator", "none found")]),
        *(("toolchain", f"{language} {version}") for language, version in facts.toolchains.items()),
        (
            "isolation",
            f"{isolation['name']}{lacks}; memory of a run bounded {bounded}" if isolation["name"] else "none",
        ),
        ("energy counters", ", ".join(facts.energy_counters) or "not available here"),
        ("stopwatch", stopwatch),
        ("fingerprint", facts.fingerprint),
    ]


def calibration_view(calibration: Calibration, fingerprint: str) -> View:
    """The instruments' own error."""
    looks = calibration.sampler_looks + calibration.sampler_missed
    disturbed = f"! {calibration.disturbed} meanwhile: calibrate again when the machine is quiet"
    return View(
        title="",
        simulated=False,
        parts=present(
            errors_table(
                [("on a beat", row) for row in calibration.streams]
                + [("little model", row) for row in calibration.real]
            ),
            Words(
                text=f"memory sampler at {calibration.sampler_hz:g} Hz: {calibration.sampler_share:.1%} of one core, "
                f"{calibration.sampler_missed} of {looks} looks missed"
            ),
            Words(text=disturbed, tone="warning") if calibration.disturbed is not None else None,
            Words(text=f"floor {1000 * calibration.floor_s:.2f} ms, kept for rig {fingerprint}"),
        ),
        document={"fingerprint": fingerprint, **msgspec.to_builtins(calibration)},
    )


def errors_table(rows: Sequence[tuple[str, Any]]) -> Table | None:
    """The stopwatch's error at each number of streams."""

    def milliseconds(name: str) -> Column:
        return Column(name=name, unit="ms", align=Align.RIGHT, show=lambda value: f"{1000 * value:.2f}")

    return table(
        "The stopwatch's own error",
        [
            words("server"),
            count("streams"),
            count("events"),
            *(milliseconds(name) for name in ("bias", "TTFT p50", "TTFT p99", "ITL p50", "ITL p99")),
            percent("of one core"),
            size("memory"),
        ],
        [
            (
                *(name, row.streams, row.events, row.bias_s, row.first_p50_s, row.first_p99_s, row.itl_p50_s),
                *(row.itl_p99_s, row.cpu_share, row.resident_bytes),
            )
            for name, row in rows
        ],
        note="Error: stamped later than the event was sent, the kernel's way included; ITL: size of the error "
        "between two "
        "events. Floor: 99 of 100 events of one stream; no duration below it is printed as a figure.",
    )
