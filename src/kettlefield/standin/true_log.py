"""What really happened to each request: the truth that instruments are held against."""

import json
from pathlib import Path

from kettlefield.standin.front import Answer, Asked


class TrueLog:
    """Writes what really happened to each request; the clock is the host's monotonic one, as the stopwatch's."""

    def __init__(self, path: Path | None) -> None:
        self._file = path.open("a", encoding="utf-8", buffering=1) if path is not None else None

    def write(self, asked: Asked, answer: Answer, *, cached_tokens: int, prompt: str) -> None:
        """One streamed request: when it came, when each of its pieces was sent, how its prompt begins."""
        if self._file is None or not asked.body.get("stream"):
            return
        facts = {
            "received_s": asked.received_s,
            "sent_s": answer.sent_s,
            "prompt_tokens": answer.prompt_tokens,
            "cached_tokens": cached_tokens,
            "prompt": prompt[:40],
        }
        self._file.write(json.dumps(facts) + "\n")
