"""A server's own counters and gauges, looked at beside its memory for as long as its session lasts."""

import asyncio
import time
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager

import aiohttp
import msgspec

from kettlefield.core.plaintext import shorten, visible
from kettlefield.server.metrics_text import MOST_TEXT_BYTES, read_metrics

EVERY_S = 0.5
LOOK_WITHIN_S = 2.0
MOST_LOOKS = 20_000  # of a session; then every second one is dropped
MOST_FAILURES = 5  # in a row, from the first look on: then it has none


class MetricsWatch(msgspec.Struct, kw_only=True):
    """What was seen so far."""

    url: str
    headers: dict[str, str]
    phase: Callable[[], str]
    fault: str = ""  # why nothing could be read, in words
    at_s: list[float] = msgspec.field(default_factory=list)  # since the first look
    phases: list[str] = msgspec.field(default_factory=list)
    values: list[dict[str, float]] = msgspec.field(default_factory=list)
    kinds: dict[str, str] = msgspec.field(default_factory=dict)
    _begun_s: float = msgspec.field(default_factory=time.perf_counter)

    @asynccontextmanager
    async def watching(self) -> AsyncIterator[None]:
        """Looked at before, twice a second within, and after, so that every request lies between two looks."""
        async with aiohttp.ClientSession(timeout=aiohttp.ClientTimeout(total=LOOK_WITHIN_S)) as session:
            await self.look(session)
            looking = asyncio.create_task(self._run(session))
            try:
                yield
            finally:
                looking.cancel()
                if self.values:
                    await self.look(session)

    async def _run(self, session: aiohttp.ClientSession) -> None:
        """Look twice a second; a server without such a page is left alone after a few looks."""
        failures = 0
        while failures < MOST_FAILURES or self.values:
            await asyncio.sleep(EVERY_S)
            failures = 0 if await self.look(session) else failures + 1

    async def look(self, session: aiohttp.ClientSession) -> bool:
        """One look; whether something was read."""
        try:
            async with session.get(self.url, headers=self.headers) as response:
                if response.status != 200:
                    self.fault = f"answers with status {response.status}"
                    return False
                body = await response.content.read(MOST_TEXT_BYTES + 1)
            if len(body) > MOST_TEXT_BYTES:
                self.fault = "is too long"
                return False
            seen = read_metrics(body.decode("utf-8", errors="replace"))
        except ValueError as err:
            self.fault = f"is not in the Prometheus text format ({shorten(visible(str(err), keep_lines=False), 120)})"
            return False
        except (aiohttp.ClientError, TimeoutError, OSError) as err:
            self.fault = f"cannot be read ({type(err).__name__})"
            return False
        if not seen.values:
            self.fault = "holds no counters or gauges"
            return False
        self.at_s.append(time.perf_counter() - self._begun_s)
        self.phases.append(self.phase())
        self.values.append(dict(seen.values))
        self.kinds |= seen.kinds
        if len(self.values) > MOST_LOOKS:
            for held in (self.at_s, self.phases, self.values):
                del held[1::2]
        return True

    @property
    def facts(self) -> dict[str, object]:
        """For the record."""
        names = sorted(self.kinds)
        return {
            "kinds": self.kinds,
            "at_s": [round(at_s, 3) for at_s in self.at_s],
            "phases": self.phases,
            "values": {name: [seen.get(name) for seen in self.values] for name in names},
        }
