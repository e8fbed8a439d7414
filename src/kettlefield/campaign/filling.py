"""The context filled before a task: project files in its prompt, or as turns before it, up to a share."""

from collections.abc import Iterable, Sequence
from pathlib import Path

import msgspec

from kettlefield.campaign.filler_files import project_files
from kettlefield.campaign.fixed_texts import read_text_file, text_files
from kettlefield.campaign.prompts import render_text
from kettlefield.core.errors import InputError
from kettlefield.languages.all_languages import LANGUAGES
from kettlefield.measure.procedure import GUESSED_CHARS_PER_TOKEN
from kettlefield.plan.candidates import Candidate
from kettlefield.plan.tables import GradingTable
from kettlefield.server.exchange import Ask, ChatClient, Exchange, count_prompt
from kettlefield.suite.format import Exercise

ROOM = 0.02  # of the context, left for what counting by characters misses
OPENING = "Files of the project, for reference:\n\n"
TASK = "The task:\n\n"
MOST_CHARS_PER_TOKEN = 6.0  # of prose and code in any tokenizer
READ = "I have read these files."
TURN_CHARS = 6000  # of the files in one turn
ANSWER_LINES = 3  # in a row of an exercise's answer: a file that holds them gives it away
LEAST_LINE = 8  # characters of a line that says anything
WHERE = "[grading] fill_from"


class Filling(msgspec.Struct, frozen=True, kw_only=True):
    """Project files as one text, and how much of it fits before a task."""

    text: str
    context: int  # tokens
    as_turns: bool
    chars_per_token: float  # of the files
    task_chars_per_token: float  # of the tasks, in the mean

    def before(self, ask: Ask, fill: float, task_tokens: int | None = None) -> Ask:
        """A request with files before its task, so that both together take a share of the context.

        A task that takes as much by itself is left as it is. ``task_tokens`` are those of the task alone, as counted;
        None: they are guessed by the mean over tasks.
        """
        task_chars = sum(len(message["content"]) for message in ask.messages)
        if task_tokens is None:
            # the denser of the two: the context is rather filled a little less than over its end
            task_tokens = round(task_chars / min(self.chars_per_token, self.task_chars_per_token))
        left = (fill - ROOM) * self.context - task_tokens
        chars = round(left * self.chars_per_token) - len(OPENING) - len(TASK)
        # whole lines only, the same ones before every task: a prompt cache may keep them
        files = self.text[: self.text.rfind("\n", 0, max(0, chars)) + 1]
        if not files.strip():
            return ask
        files += "```\n\n" if files.count("```") % 2 else ""
        *rules, task = ask.messages
        if self.as_turns and ask.is_chat:
            return msgspec.structs.replace(ask, messages=(*rules, *_turns(files), task))
        return msgspec.structs.replace(
            ask, messages=(*rules, {**task, "content": f"{OPENING}{files}{TASK}{task['content']}"})
        )


def _turns(files: str) -> list[dict[str, str]]:
    """The files as a conversation that went before, cut at the ends of lines."""
    turns = []
    while files:
        end = len(files) if len(files) <= TURN_CHARS else files.rfind("\n", 0, TURN_CHARS) + 1 or len(files)
        turns += [{"role": "user", "content": OPENING + files[:end]}, {"role": "assistant", "content": READ}]
        files = files[end:]
    return turns


def filler_of(candidate: Candidate, exercises: Sequence[Exercise], folder: Path) -> str:
    """The files that a candidate's fullest context may need.

    Raises
    ------
    InputError
        See `filler_text`.
    """
    most_chars = round(max(candidate.grading.context_fill) * candidate.server.context * MOST_CHARS_PER_TOKEN)
    return filler_text(candidate.grading, exercises, folder, most_chars)


async def count_filling(
    client: ChatClient, candidate: Candidate, text: str, task_ratio: float | None, sampling: dict[str, object]
) -> tuple[Filling, Exchange]:
    """Have the server count a part of the files, so that they fill what they should; and that request.

    Parameters
    ----------
    client : ChatClient
        Of a server that is ready.
    candidate : Candidate
        Who is asked.
    text : str
        The files.
    task_ratio : float or None
        Characters a token of the suite's prompts, as counted; None: the server counts nothing.
    sampling : dict
        Settings as they go over the wire.
    """
    context = candidate.server.context
    known = task_ratio or GUESSED_CHARS_PER_TOKEN
    # a third of the context: enough for the mean over kinds of files, and sure to fit
    part = text[: round(context / 3 * known)]
    exchange = await count_prompt(
        client, msgspec.structs.replace(render_text(part, candidate.prompting), sampling=sampling)
    )
    counted = exchange.trace.prompt_tokens if exchange.fault is None else None
    filling = Filling(
        text=text,
        context=context,
        as_turns=candidate.grading.fill_as == "turns",
        chars_per_token=len(part) / counted if counted else known,
        task_chars_per_token=known,
    )
    return filling, exchange


def filler_text(table: GradingTable, exercises: Sequence[Exercise], folder: Path, most_chars: int) -> str:
    """The files that stand before tasks, each in a block under its name.

    Parameters
    ----------
    table : GradingTable
        Says where files come from.
    exercises : sequence of Exercise
        That are asked: no file may hold the answer of one.
    folder : Path
        What patterns are relative to.
    most_chars : int
        That are needed.

    Raises
    ------
    InputError
        A pattern matches nothing; a file is binary, too large or holds an answer; or all together are too short.
    """
    parts, length = [], 0
    for name, text in _files(table, exercises, folder):
        language = LANGUAGES.of_suffix(name) or ""
        parts.append(f"`{name}`:\n\n```{language}\n{text.rstrip()}\n```\n\n")
        length += len(parts[-1])
        if length >= most_chars:
            return "".join(parts)
    what = f"the files have {length:,} characters, {most_chars:,} are needed to fill the context"
    raise InputError(what, f"{folder} {WHERE}", "Name more files, or lower context_fill.")


def _files(table: GradingTable, exercises: Sequence[Exercise], folder: Path) -> Iterable[tuple[str, str]]:
    if not table.fill_from:
        yield from project_files()
        return
    answers = {exercise.id: _telling(exercise) for exercise in exercises}
    for path in text_files(table.fill_from, folder, WHERE):
        text = read_text_file(path, "fill_from")
        held = _runs(text)
        given_away = next((name for name, runs in answers.items() if runs & held), None)
        if given_away is not None:
            raise InputError(f"holds lines of the answer to {given_away}", str(path), "Leave it out of fill_from.")
        yield path.relative_to(folder).as_posix(), text


def _telling(exercise: Exercise) -> set[tuple[str, ...]]:
    """Runs of lines of an exercise's answers that its prompt does not show."""
    shown = _runs("\n".join([exercise.prompt, *exercise.given.values()]))
    return {run for turn in exercise.turns for text in turn.answer.values() for run in _runs(text)} - shown


def _runs(text: str) -> set[tuple[str, ...]]:
    lines = [line for raw in text.splitlines() if len(line := "".join(raw.split())) >= LEAST_LINE]
    return {tuple(lines[at : at + ANSWER_LINES]) for at in range(len(lines) - ANSWER_LINES + 1)}
