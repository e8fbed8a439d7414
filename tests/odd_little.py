"""The little model's server with faults: it counts no tokens in a stream, and is killed in its first two starts.

    python odd_little.py STATE ARGUMENTS-OF-THE-LITTLE-SERVER...

``STATE`` is a file that counts the deaths.
"""

import os
import signal
import sys
from pathlib import Path

from kettlefield.demo import http_front as front
from kettlefield.demo.little.__main__ import main

DEATHS = 2
ANSWERS_BEFORE = 12  # a suite's answer is told by its cap
ANSWER_TOKENS = 96

plain_line, begin = front._line, front.Front._complete
answers = []
STATE = []


def line(chunk):
    """An event, but for the one that counts tokens."""
    return b"" if chunk.get("usage") is not None else plain_line(chunk)


async def complete(self, request):
    """As ever, until it is time to die in the middle of an answer."""
    body = await request.json()
    answers.extend([body] if body.get("max_tokens") == ANSWER_TOKENS else [])
    state = Path(STATE[0])
    deaths = len(state.read_text()) if state.exists() else 0
    if len(answers) > ANSWERS_BEFORE and deaths < DEATHS:
        state.write_text("x" * (deaths + 1))
        os.kill(os.getpid(), signal.SIGKILL)
    return await begin(self, request)


if __name__ == "__main__":
    STATE.append(sys.argv.pop(1))
    front._line, front.Front._complete = line, complete
    raise SystemExit(main())
