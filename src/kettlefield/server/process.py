"""A server's process: started from the plan's command, waited for, stopped with all it started."""

import asyncio
import contextlib
import os
import re
import shutil
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path

import aiohttp
import msgspec
import psutil

from kettlefield.core.errors import InputError, ServerError
from kettlefield.core.plaintext import last_lines, shorten, visible
from kettlefield.core.renames import PLACEHOLDERS
from kettlefield.core.units import format_duration
from kettlefield.server.http_client import ModelList

POLL_S = 0.02  # between two looks at readiness: a fiftieth of the shortest load worth timing
STOP_WITHIN_S = 5.0  # a server that ignores SIGTERM this long is killed
LOG_LINES = 5
_PLACEHOLDER = re.compile(r"\{([a-z_]+)\}")


class Launch(msgspec.Struct, frozen=True, kw_only=True):
    """How to start a server and when to call it ready."""

    command: tuple[str, ...]  # with {weights}, {port}, {context}, {level}, {python}
    fields: dict[str, str]
    ready_paths: tuple[str, ...]
    ready_within_s: float
    log: Path
    folder: Path  # working directory: the plan's
    port: int | None = None  # none: any free one


class ServerProcess:
    """One running server with its process group and log."""

    def __init__(self, process: subprocess.Popen[bytes], url: str, launch: Launch, command: tuple[str, ...]) -> None:
        self._process = process
        self._launch = launch
        self.url = url
        self.command = command
        self.started_s = time.perf_counter()

    @property
    def pid(self) -> int:
        """Process id of the first process."""
        return self._process.pid

    @property
    def is_alive(self) -> bool:
        """Whether its first process still runs."""
        return self._process.poll() is None

    def how_it_ended(self) -> str:
        """Its exit status or signal, in words."""
        return end_words(self._process.poll())

    def last_words(self) -> str:
        """The end of its log in one line, safe to show."""
        return words_of_log(self._launch.log)

    async def wait_ready(self) -> float:
        """Seconds from start until it answers.

        Raises
        ------
        ServerError
            It exits, is not ready in time, or answers as no inference server does.
        """
        deadline_s = self.started_s + self._launch.ready_within_s
        async with aiohttp.ClientSession(timeout=aiohttp.ClientTimeout(total=5)) as session:
            while not await is_ready(session, self.url, self._launch.ready_paths):
                if not self.is_alive:
                    raise ServerError(
                        f"{self.how_it_ended()} before it was ready: {self.last_words()}",
                        " ".join(self.command),
                        f"Its whole log is {self._launch.log}.",
                    )
                if time.perf_counter() > deadline_s:
                    within = format_duration(self._launch.ready_within_s)
                    raise ServerError(
                        f"was not ready within {within}: {self.last_words()}",
                        " ".join(self.command),
                        "Raise [server] ready_within, or check ready_paths.",
                    )
                await asyncio.sleep(POLL_S)
        return time.perf_counter() - self.started_s

    async def stop(self) -> None:
        """Stop it and everything it started, also what left its process group."""
        family = family_of(self.pid)
        with contextlib.suppress(ProcessLookupError):
            os.killpg(self.pid, signal.SIGTERM)
        deadline_s = time.perf_counter() + STOP_WITHIN_S
        while self.is_alive and time.perf_counter() < deadline_s:
            await asyncio.sleep(POLL_S)
        await kill_group(self.pid, family)
        await asyncio.to_thread(self._process.wait)


def start_server(launch: Launch) -> ServerProcess:
    """Start a server in a process group of its own, its output in its log.

    Raises
    ------
    InputError
        The command does not exist or holds an unknown placeholder, or the plan's port is taken.
    """
    port = launch.port or _free_port()
    if launch.port is not None and _is_taken(launch.port):
        raise InputError(
            f"port {launch.port} is taken by another program",
            "plan [server] port",
            "Stop that program, choose another port, or leave port out.",
        )
    command = find_command(launch, {"port": str(port)})
    with launch.log.open("wb") as log:
        process = subprocess.Popen(
            with_parent_guard(command),
            stdin=subprocess.DEVNULL,
            stdout=log,
            stderr=subprocess.STDOUT,
            cwd=launch.folder,
            start_new_session=True,
        )
    return ServerProcess(process, f"http://127.0.0.1:{port}", launch, command)


def end_words(status: int | None) -> str:
    """How a process ended, in words: its exit status, or the signal that killed it."""
    if status is None:
        return "still runs"
    if status >= 0:
        return f"ended with exit status {status}"
    try:
        name = signal.Signals(-status).name
    except ValueError:
        name = "unknown"
    return f"was killed by signal {-status} ({name})"


def find_command(launch: Launch, more: dict[str, str]) -> tuple[str, ...]:
    """The command filled in, its program found and the folder of its log made.

    Raises
    ------
    InputError
        The program does not exist, or the command holds an unknown placeholder.
    """
    command = fill_command(launch.command, {**launch.fields, **more, "python": sys.executable})
    if shutil.which(command[0]) is None and shutil.which(launch.folder / command[0]) is None:
        raise InputError(
            f'there is no program "{visible(command[0])}"',
            "plan [server] command",
            "Install it, or write its full path.",
        )
    launch.log.parent.mkdir(parents=True, exist_ok=True)
    return command


def with_parent_guard(command: tuple[str, ...]) -> list[str]:
    """The command so that it ends with us: killed outright, we must not leave a server behind that holds memory."""
    return [*(["setpriv", "--pdeathsig", "KILL", "--"] if shutil.which("setpriv") else []), *command]


def words_of_log(path: Path) -> str:
    """The end of a log in one line, safe to show."""
    with contextlib.suppress(OSError):
        text = path.read_bytes()[-8192:].decode("utf-8", errors="replace")
        lines = visible(last_lines(text, LOG_LINES)).replace("\n", " | ")
        return shorten(lines, 600) if lines else "its log is empty"
    return "its log cannot be read"


async def kill_group(pid: int, family: list[psutil.Process]) -> None:
    """Kill a process group and what left it; return when all of them are gone.

    Memory is free only then, and the next candidate's baseline is taken after this.
    """
    with contextlib.suppress(ProcessLookupError, PermissionError):
        os.killpg(pid, signal.SIGKILL)
    for member in family:
        with contextlib.suppress(psutil.NoSuchProcess):
            member.kill()
    others = [member for member in family if member.pid != pid]
    await asyncio.to_thread(psutil.wait_procs, others, STOP_WITHIN_S)


def fill_command(command: tuple[str, ...], fields: dict[str, str]) -> tuple[str, ...]:
    """The command with its placeholders filled in; other braces, as JSON has them, stay.

    Raises
    ------
    InputError
        A word such as ``{wieghts}`` is not a placeholder we know.
    """

    def fill(match: re.Match[str]) -> str:
        if match[1] not in fields:
            known = ", ".join("{" + name + "}" for name in sorted(fields))
            hint = f"It is {PLACEHOLDERS[match[0]]} now." if match[0] in PLACEHOLDERS else f"Known: {known}."
            raise InputError(f'unknown placeholder "{match[0]}"', "plan [server] command", hint)
        return fields[match[1]]

    return tuple(_PLACEHOLDER.sub(fill, word) for word in command)


async def is_ready(session: aiohttp.ClientSession, url: str, paths: tuple[str, ...]) -> bool:
    """Whether a server says that it is ready: the first path that exists decides; 503 means still loading.

    Raises
    ------
    ServerError
        It answers with a web page.
    """
    for path in paths:
        try:
            async with session.get(url + path) as response:
                if response.status == 404:
                    continue
                if response.status == 200 and response.content_type == "text/html":
                    raise ServerError(
                        f"answers {path} with a web page (text/html)",
                        url,
                        "That is not an inference server; check the url or the port.",
                    )
                return response.status == 200
        except (aiohttp.ClientError, OSError, TimeoutError):
            return False
    return False


async def wait_for_url(url: str, paths: tuple[str, ...], within_s: float) -> None:
    """Wait until a server that somebody else started is ready.

    Raises
    ------
    ServerError
        It is not ready in time, or answers as no inference server does.
    """
    deadline_s = time.perf_counter() + within_s
    async with aiohttp.ClientSession(timeout=aiohttp.ClientTimeout(total=5)) as session:
        while not await is_ready(session, url.rstrip("/"), paths):
            if time.perf_counter() > deadline_s:
                raise ServerError(
                    f"was not ready within {format_duration(within_s)}",
                    url,
                    "Start it, or correct [server] url.",
                )
            await asyncio.sleep(POLL_S)


async def describe_server(url: str) -> str:
    """What the server says of itself: its Server header and its first model's id; for the record."""
    timeout = aiohttp.ClientTimeout(total=5)
    with contextlib.suppress(aiohttp.ClientError, OSError, TimeoutError, msgspec.DecodeError):
        async with (
            aiohttp.ClientSession(timeout=timeout) as session,
            session.get(url + "/v1/models") as response,
        ):
            header = response.headers.get("Server", "")
            models = msgspec.json.decode(await response.read(), type=ModelList).data
            name = models[0].id if models else ""
            return visible(shorten("; ".join(part for part in (header, name) if part), 200), keep_lines=False)
    return ""


def family_of(pid: int) -> list[psutil.Process]:
    """A process and all below it, as they are now."""
    try:
        first = psutil.Process(pid)
        return [first, *first.children(recursive=True)]
    except psutil.NoSuchProcess:
        return []


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def _is_taken(port: int) -> bool:
    with socket.socket() as probe:
        return probe.connect_ex(("127.0.0.1", port)) == 0
