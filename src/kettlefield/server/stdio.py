"""A model run from a script: a child process that speaks JSON-RPC 2.0, one message a line, on its pipes.

We call ``describe``, ``complete`` and ``shutdown``; while it completes, the child sends ``token`` notifications.
What it prints beside that goes to the log.
"""

import asyncio
import contextlib
import time
from typing import Any

import msgspec

from kettlefield.core.errors import ServerError
from kettlefield.core.extraction.reply_symptoms import says_over_context
from kettlefield.core.plaintext import shorten, visible
from kettlefield.core.timing.timeline import Trace
from kettlefield.core.units import format_duration
from kettlefield.server.backend import Backend, Server, Talk
from kettlefield.server.exchange import Ask, Exchange, UnderWay
from kettlefield.server.process import (
    STOP_WITHIN_S,
    Launch,
    end_words,
    family_of,
    find_command,
    kill_group,
    with_parent_guard,
    words_of_log,
)

URL = "stdio"
MAX_LINE_BYTES = 4 * 2**20
_PIECE_BYTES = 2**16
MAX_REPLY_CHARS = 16 * 2**20


class _Usage(msgspec.Struct, frozen=True):
    prompt_tokens: int | None = None
    completion_tokens: int | None = None


class _Result(msgspec.Struct, frozen=True):
    finish_reason: str | None = None
    usage: _Usage = _Usage()


class _Described(msgspec.Struct, frozen=True):
    name: str = ""


class _Token(msgspec.Struct, frozen=True):
    id: int
    text: str
    thinking: bool = False


class _Failure(msgspec.Struct, frozen=True):
    message: str = "an error without words"


class _Message(msgspec.Struct, frozen=True):
    jsonrpc: str
    id: int | None = None
    method: str | None = None
    params: _Token | None = None
    result: msgspec.Raw = msgspec.Raw()
    error: _Failure | None = None


_DECODER = msgspec.json.Decoder(_Message)


class _Call:
    """One request under way and what has come of it."""

    def __init__(self) -> None:
        self.tokens: list[tuple[float, str, bool]] = []
        self.chars = 0
        self.refused = False
        self.ended: asyncio.Future[bytes] = asyncio.get_running_loop().create_future()

    def fail(self, words: str, *, refused: bool = False) -> None:
        if not self.ended.done():
            self.refused = refused
            self.ended.set_exception(ServerError(words, URL, ""))
            self.ended.exception()  # seen: it may be that nobody waits any more


class StdioServer:
    """One child process and the conversation with it: process and client in one."""

    def __init__(self, launch: Launch, talk: Talk) -> None:
        self._launch = launch
        self.url = URL
        self.command = find_command(launch, {})
        self.description = ""
        self.started_s = time.perf_counter()
        self._calls: dict[int, _Call] = {}
        self._last_id = 0
        self._under_way = UnderWay()
        self._process: asyncio.subprocess.Process | None = None
        self._reading: asyncio.Task[None] | None = None
        self.reply_within_s = talk.reply_within_s

    @property
    def pid(self) -> int | None:
        """Process id of the child."""
        assert self._process is not None  # noqa: S101 - start comes first
        return self._process.pid

    @property
    def is_alive(self) -> bool:
        """Whether the child still runs."""
        return self._process is not None and self._process.returncode is None

    async def start(self) -> None:
        """Start the child.

        Raises
        ------
        ServerError
            The command does not exist.
        """
        self._log = self._launch.log.open("wb")
        self.started_s = time.perf_counter()
        try:
            self._process = await asyncio.create_subprocess_exec(
                *with_parent_guard(self.command),
                stdin=asyncio.subprocess.PIPE,
                stdout=asyncio.subprocess.PIPE,
                stderr=self._log,
                cwd=self._launch.folder,
                start_new_session=True,
            )
        except OSError as err:
            raise ServerError(f"cannot be started ({err.strerror})", " ".join(self.command), "Check it.") from err
        self._reading = asyncio.create_task(self._read())

    async def ready(self) -> float | None:
        """Seconds from start until it has described itself.

        Raises
        ------
        ServerError
            It ends, stays silent or answers nonsense.
        """
        try:
            async with asyncio.timeout(self._launch.ready_within_s):
                # a script that fails at once may be gone before it can be asked: its last words say why
                raw = await (await self._send("describe", {})).ended
        except TimeoutError:
            within = format_duration(self._launch.ready_within_s)
            raise ServerError(
                f"did not answer describe within {within}: {self.last_words()}",
                " ".join(self.command),
                "Raise [server] ready_within, or fix the script.",
            ) from None
        except ServerError as err:
            raise ServerError(
                f"{err.what}: {self.last_words()}", " ".join(self.command), f"Its log is {self._launch.log}."
            ) from err
        with contextlib.suppress(msgspec.DecodeError, msgspec.ValidationError):
            self.description = visible(shorten(msgspec.json.decode(raw, type=_Described).name, 200))
        return time.perf_counter() - self.started_s

    async def ask(self, ask: Ask, *, stream: bool = True) -> Exchange:
        """Ask and wait for the end of the reply; a failure is in the result, not raised. Tokens come as they are made,
        whether a stream is wanted or not.
        """
        asked_at, fault, result = time.time(), None, _Result()
        body = {"messages": list(ask.messages)} if ask.is_chat else {"prompt": ask.messages[0]["content"]}
        call, sent_s = None, time.perf_counter()
        with self._under_way.request() as peak:
            try:
                async with asyncio.timeout(self.reply_within_s):
                    call = await self._send("complete", {**body, "settings": ask.sampling})
                    sent_s = time.perf_counter()
                    result = msgspec.json.decode(await call.ended, type=_Result)
            except TimeoutError:
                fault = f"gave no end of its reply within {format_duration(self.reply_within_s)}"
            except ServerError as err:
                fault = err.what
            except (msgspec.DecodeError, msgspec.ValidationError) as err:
                fault = f"ended its reply with nonsense ({err})"
        tokens = call.tokens if call is not None else []
        return Exchange(
            ask=ask,
            asked_at=asked_at,
            sent_s=sent_s,
            concurrency=peak[0],
            text="".join(text for _, text, thinking in tokens if not thinking),
            thinking="".join(text for _, text, thinking in tokens if thinking),
            trace=Trace(
                stamps_s=tuple(max(0.0, stamp - sent_s) for stamp, _, _ in tokens),
                thinking=tuple(thinking for _, _, thinking in tokens),
                finished_s=time.perf_counter() - sent_s,
                prompt_tokens=result.usage.prompt_tokens,
                completion_tokens=result.usage.completion_tokens,
            ),
            finish_reason=result.finish_reason,
            fault=fault,
            refused=call is not None and call.refused,
            over_context=fault is not None and says_over_context(fault),
            sent=call is not None,
        )

    @property
    def client(self) -> "StdioServer":
        """The conversation: itself."""
        return self

    async def describe(self) -> str:
        """The name that it gave when it was ready."""
        return self.description

    async def close(self) -> None:
        """Nothing to let go of beside the process."""

    def how_it_ended(self) -> str:
        """Its exit status or signal, in words."""
        return end_words(self._process.returncode if self._process is not None else None)

    def last_words(self) -> str:
        """The end of its log in one line, safe to show."""
        return words_of_log(self._launch.log)

    async def stop(self) -> None:
        """Ask it to shut down; kill what is left of it and what it started."""
        if self._process is None:
            return
        pid = self._process.pid
        family = family_of(pid)
        if self.is_alive:
            with contextlib.suppress(ServerError, TimeoutError, OSError):
                async with asyncio.timeout(STOP_WITHIN_S):
                    await self._send("shutdown", {})
                    if self._process.stdin is not None:
                        self._process.stdin.close()  # a script that knows no shutdown ends with its input
                    await self._process.wait()
        await kill_group(pid, family)
        await self._process.wait()
        if self._reading is not None:
            self._reading.cancel()
            await asyncio.gather(self._reading, return_exceptions=True)
        self._log.close()

    async def _send(self, method: str, params: dict[str, Any]) -> _Call:
        self._last_id += 1
        call = self._calls[self._last_id] = _Call()
        pipe = self._process.stdin if self._process is not None else None
        if pipe is None or not self.is_alive:
            raise ServerError("ended", URL, "")
        message = {"jsonrpc": "2.0", "id": self._last_id, "method": method, "params": params}
        try:
            pipe.write(msgspec.json.encode(message) + b"\n")
            await pipe.drain()
        except (OSError, ConnectionError) as err:
            raise ServerError(f"broke off ({type(err).__name__})", URL, "") from err
        return call

    async def _read(self) -> None:
        assert self._process is not None and self._process.stdout is not None  # noqa: S101 - started with pipes
        pending, is_overlong = bytearray(), False
        while piece := await self._process.stdout.read(_PIECE_BYTES):
            stamp_s = time.perf_counter()
            *lines, rest = piece.split(b"\n")
            for line in lines:
                # what follows the end of a line that was too long is a line as any other
                if not is_overlong:
                    self._take(bytes(pending + line + b"\n"), stamp_s)
                pending.clear()
                is_overlong = False
            if not is_overlong:
                pending += rest
            if len(pending) > MAX_LINE_BYTES:
                pending.clear()
                is_overlong = True
                self._fail_all(f"sent a line of more than {MAX_LINE_BYTES // 2**20} MiB")
        self._fail_all("ended")

    def _fail_all(self, why: str) -> None:
        """Whose line it was cannot be known: every request under way ends with it."""
        for call in self._calls.values():
            call.fail(why)
        self._calls.clear()

    def _take(self, line: bytes, stamp_s: float) -> None:
        try:
            message = _DECODER.decode(line)
        except (msgspec.DecodeError, msgspec.ValidationError, RecursionError):
            self._log.write(line)  # a print of the script's own
            self._log.flush()
            return
        if message.method == "token" and message.params is not None:
            call = self._calls.get(message.params.id)
            if call is not None and message.params.text:
                call.tokens.append((stamp_s, message.params.text, message.params.thinking))
                call.chars += len(message.params.text)
                if call.chars > MAX_REPLY_CHARS:
                    call.fail("sent more than 16 MiB of text")
        elif message.id is not None and (call := self._calls.pop(message.id, None)) is not None:
            if message.error is not None:
                said = shorten(visible(message.error.message, keep_lines=False), 200)
                call.fail(f"answered with an error: {said}", refused=True)
            elif not call.ended.done():
                call.ended.set_result(bytes(message.result) or b"{}")


async def _start(launch: Launch, talk: Talk) -> Server:
    server = StdioServer(launch, talk)
    try:
        await server.start()
    except BaseException:
        with contextlib.suppress(Exception):
            await server.stop()
        raise
    return server


STDIO = Backend(name="stdio", start=_start)
