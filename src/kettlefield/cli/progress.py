"""A campaign watched on stderr: a live bar on a terminal, plain lines elsewhere."""

import time
from collections import Counter

from rich.console import Console, Group
from rich.live import Live
from rich.progress import (
    BarColumn,
    MofNCompleteColumn,
    Progress,
    TextColumn,
    TimeElapsedColumn,
    TimeRemainingColumn,
)
from rich.text import Text

from kettlefield.core.outcome import Outcome
from kettlefield.core.units import format_bytes, format_duration
from kettlefield.measure.all_procedures import PROCEDURES
from kettlefield.views.terminal import STATUS_STYLES, make_console, safe

PHASE_WORDS = {
    "cold load": "loading from the disk, to time it",
    "load": "starting the server",
    "preflight": "preflight check",
    "warm-up": "warming up",
    "counting": "counting prompt tokens",
    "answers": "asking and grading",
}


class CampaignProgress:
    """An observer that shows; use it as a context manager."""

    def __init__(self) -> None:
        self._console: Console = make_console(stderr=True)
        self._live = self._console.is_terminal
        self._progress = Progress(
            TextColumn("{task.description}", markup=False),
            BarColumn(bar_width=24, complete_style="cyan", finished_style="cyan"),
            MofNCompleteColumn(),
            TextColumn("trials"),
            TimeElapsedColumn(),
            TextColumn("left"),
            TimeRemainingColumn(),
            console=self._console,
        )
        self._task = self._progress.add_task("reading weights", total=None)
        self._current = ""
        self._outcomes: Counter[Outcome] = Counter()
        self._rate_tps: float | None = None
        self._memory_bytes: int | None = None
        self._began_s = time.monotonic()
        self._digested = False
        self._view = Live(console=self._console, refresh_per_second=4, transient=True, get_renderable=self._rendered)

    def __enter__(self) -> "CampaignProgress":
        if self._live:
            self._view.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._close_candidate()
        if self._live:
            self._view.stop()

    def _rendered(self) -> Group:
        """Two lines: where the campaign is; and how the candidate fares."""
        line = Text("  ")
        for outcome, count in self._outcomes.most_common():
            line.append(f"{count} {outcome}", STATUS_STYLES.get(outcome, "")).append("  ")
        if self._rate_tps is not None:
            line.append(f"{self._rate_tps:,.0f} tokens/s  ", "dim")
        if self._memory_bytes is not None:
            line.append(f"{format_bytes(self._memory_bytes)} in use", "dim")
        return Group(self._progress, line)

    def digesting(self, total_bytes: int, done_bytes: int) -> None:
        """See ``Observer``."""
        words = f"weights' digests: {format_bytes(done_bytes)} of {format_bytes(total_bytes)}"
        self._progress.update(self._task, description=words)
        if done_bytes >= total_bytes and not self._digested:
            self._digested = True
            self._line(f"digests of {format_bytes(total_bytes)} of weights known")

    def planned(self, trials: int, done: int) -> None:
        """See ``Observer``."""
        self._progress.update(self._task, total=trials, completed=done)
        kept = f", {done} of them already in the record" if done else ""
        self._line(f"{trials} trials{kept}")

    def phase(self, candidate: str, phase: str) -> None:
        """See ``Observer``."""
        if candidate != self._current:
            self._close_candidate()
            self._current, self._began_s = candidate, time.monotonic()
        doing = PROCEDURES[phase].doing if phase in PROCEDURES else PHASE_WORDS[phase]
        self._progress.update(self._task, description=f"{candidate}: {doing}")
        if not self._live:
            self._line(f"{candidate}: {doing}")

    def looked(self, candidate: str, words: str, left_out: int) -> None:
        """See ``Observer``."""
        if words:
            self._line(f"{candidate} {words}")
        if left_out and self._progress.tasks[0].total is not None:
            self._progress.update(self._task, total=self._progress.tasks[0].total - left_out)

    def trial_done(self, candidate: str, exercise: str, outcome: Outcome) -> None:
        """See ``Observer``."""
        self._outcomes[outcome] += 1
        self._progress.advance(self._task)

    def seen(self, decode_tps: float | None, memory_bytes: int | None) -> None:
        """See ``Observer``."""
        self._rate_tps = decode_tps if decode_tps is not None else self._rate_tps
        self._memory_bytes = memory_bytes

    def trouble(self, text: str) -> None:
        """See ``Observer``."""
        self._console.print(safe(f"! {text}", "yellow"), soft_wrap=True)

    def say(self, text: str) -> None:
        """Print a line that is neither a result nor trouble."""
        self._line(text)

    def _close_candidate(self) -> None:
        if not self._current:
            return
        took = format_duration(time.monotonic() - self._began_s)
        line = safe(f"{self._current}: ")
        for index, (outcome, count) in enumerate(self._outcomes.most_common()):
            line.append(", " if index else "").append(f"{count} {outcome}", STATUS_STYLES.get(outcome, ""))
        self._console.print(line.append(f"{' in ' if self._outcomes else ''}{took}"))
        self._outcomes.clear()
        self._rate_tps = self._memory_bytes = None
        self._current = ""

    def _line(self, text: str) -> None:
        self._console.print(safe(text))
