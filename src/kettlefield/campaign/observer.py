"""What a campaign tells whoever watches it; the conductor prints nothing."""

from typing import Protocol

from kettlefield.core.outcome import Outcome


class Observer(Protocol):
    """A watcher of a campaign."""

    def digesting(self, total_bytes: int, done_bytes: int) -> None:
        """Weights are being read for their digests."""

    def planned(self, trials: int, done: int) -> None:
        """So many trials in all, so many of them already in the record."""

    def phase(self, candidate: str, phase: str) -> None:
        """A candidate enters a phase: "load", "preflight", "warm-up", a procedure, "counting", "answers"."""

    def trial_done(self, candidate: str, exercise: str, outcome: Outcome) -> None:
        """A trial is in the record."""

    def seen(self, decode_rate_tps: float | None, memory_bytes: int | None) -> None:
        """The last request's decode rate, and the server's memory at the time; None is not known."""

    def trouble(self, text: str) -> None:
        """Something failed; the campaign goes on."""
