"""What is sent for an exercise: its prompt, the environment, the answer's form; and repair turns after a failure."""

import re

import msgspec

from kettlefield.core.extraction.continuation import cut_at_stops
from kettlefield.core.extraction.syntax import ANY, TEXT
from kettlefield.core.outcome import Outcome
from kettlefield.core.plaintext import shorten
from kettlefield.grading.command_run import shown_line
from kettlefield.grading.grader import Grade
from kettlefield.languages.all_languages import LANGUAGES, find_toolchain
from kettlefield.languages.language import Toolchain
from kettlefield.languages.packages import Packages, find_packages
from kettlefield.plan.tables import PromptingTable
from kettlefield.server.exchange import Ask
from kettlefield.suite.format import Exercise, WorkspaceTable

_END_MARKS = ("<|endoftext|>", "</s>", "<|end|>")  # written out where a server does not stop at them


def render_exercise(exercise: Exercise, prompting: PromptingTable) -> Ask:
    """What puts an exercise's first turn to a model in the plan's style; the sampling is added by whoever sends it.

    A model that only continues gets the opening of a code block and fills it - or, where the exercise itself
    has an opening, just that; one that fills gaps gets the two ends.
    """
    if is_bare(exercise, prompting):
        return _render_gap(exercise, prompting)
    return render_text(_whole_text(exercise, exercise.turns[0].prompt, prompting), prompting, suffix="\n```\n")


def is_bare(exercise: Exercise, prompting: PromptingTable) -> bool:
    """Whether the model gets the exercise's opening without a word, and carries it on."""
    if prompting.style == "chat" or exercise.opening is None:
        return False
    # a model that only continues cannot be shown what follows a gap
    return prompting.style == "infill" or not exercise.closing


def follow_up(ask: Ask, reply: str, words: str, exercise: Exercise, prompting: PromptingTable) -> Ask:
    """The conversation with the model's own reply and what is said to it, be it an error or the next turn."""
    if ask.is_chat:
        said = {"role": "assistant", "content": reply}, {"role": "user", "content": words}
        return msgspec.structs.replace(ask, messages=(*ask.messages, *said))
    before = ask.messages[0]["content"]
    text = f"{before}{reply}\n```\n\n{words}\n\n{_block_opening(exercise)}"
    return msgspec.structs.replace(ask, messages=({"role": "prompt", "content": text},))


def next_turn(exercise: Exercise, turn: int, prompting: PromptingTable) -> str:
    """What a scripted follow-up turn says, with the form of the answer."""
    words = exercise.turns[turn - 1].prompt.strip()
    return f"{words}\n\n{_form_wanted(exercise)}" if prompting.style == "chat" else words


def _whole_text(exercise: Exercise, prompt: str, prompting: PromptingTable) -> str:
    """The prompt, what the exercise shows, the environment and the form of the answer."""
    parts = [*_referred(exercise), prompt.strip(), *_shown(exercise)]
    environment = _environment(exercise) if prompting.environment_line else ""
    parts += [environment] if environment else []
    if exercise.spec.workspace is not None:
        return "\n\n".join([*parts, _work_wanted(exercise.spec.workspace)])
    if prompting.style == "chat":
        return "\n\n".join([*parts, _form_wanted(exercise)])
    return "\n\n".join([*parts, _block_opening(exercise)])


def _render_gap(exercise: Exercise, prompting: PromptingTable) -> Ask:
    text = exercise.opening or ""
    if prompting.style == "infill":
        prefix, suffix, middle = prompting.infill_markers
        text = f"{prefix}{text}{suffix}{exercise.closing}{middle}"
    return Ask(messages=({"role": "prompt", "content": text},), sampling={}, is_chat=False)


def _shown(exercise: Exercise) -> list[str]:
    """Files that the model is given, each in a block of its own."""
    tag = exercise.spec.language
    parts = [
        f"`{name}`:\n\n{_block(LANGUAGES.of_suffix(name) or tag, text)}"
        for name, text in sorted(exercise.given.items())
    ]
    if exercise.opening is not None and exercise.closing:
        parts.append(f"Before the gap:\n\n{_block(tag, exercise.opening)}")
        parts.append(f"After the gap:\n\n{_block(tag, exercise.closing)}")
    elif exercise.opening is not None:
        parts.append(_block(tag, exercise.opening))
    return parts


def _referred(exercise: Exercise) -> list[str]:
    """The text that the task is about, before it, so that a prompt cache may keep it from one exercise to the next."""
    text = exercise.refer_to
    return [] if text is None else [f"`{text.name}`:\n\n{_block('markdown', text.text)}"]


def _block(tag: str, text: str) -> str:
    longest = max((len(run) for run in re.findall(r"^`{3,}", text, re.MULTILINE)), default=2)
    fence = "`" * (longest + 1)
    return f"{fence}{tag}\n{text.rstrip()}\n{fence}"


def _block_opening(exercise: Exercise) -> str:
    if exercise.spec.language == TEXT:
        return "Answer:"
    tag = "" if exercise.spec.language == ANY else exercise.spec.language
    return f"The complete {_title(exercise)} code:\n\n```{tag}\n"


def _title(exercise: Exercise) -> str:
    language = LANGUAGES.get(exercise.spec.language)
    return language.title if language is not None else "program's"


def _form_wanted(exercise: Exercise) -> str:
    spec = exercise.spec
    if spec.kind == "review":
        return "Reply with the JSON list in one code block; what you write before it is not read."
    if spec.language == TEXT:
        return "Reply in plain prose."
    if spec.files:
        names = ", ".join(f"`{name}`" for name in (spec.file, *spec.files))
        return (
            f"Reply with the complete files {names}, each in a code block of its own with its name on the line before."
        )
    if spec.language == ANY:
        return "Reply with the complete code in one code block that names its language."
    return f"Reply with the complete {_title(exercise)} code in one code block."


def _work_wanted(table: WorkspaceTable) -> str:
    """What is said beside a ticket: the commands, what must stay, how the work ends."""
    lines = ["Work in the repository by calling the tools; begin by looking at its files."]
    if table.commands:
        named = "; ".join(f"`{name}` (`{shown_line(line)}`)" for name, line in table.commands.items())
        lines.append(f"Commands for the tool `run`: {named}.")
    if table.protected:
        lines.append(f"These files must stay as they are: {', '.join(f'`{name}`' for name in table.protected)}.")
    lines.append(
        f"You have {table.turns} turns and {table.calls} calls. When the work is done, call `finish`; a summary in "
        "text alone does not end it."
    )
    return "\n".join(lines)


def _environment(exercise: Exercise) -> str:
    """The versions that the answer will meet, so that an old one is not blamed on the model."""
    language = exercise.spec.language
    if language == TEXT:
        return ""
    # a database that asks is not a program that reads its input
    names = [name for name in LANGUAGES.programs if not LANGUAGES[name].is_query] if language == ANY else [language]
    tools = [(name, find_toolchain(name)) for name in names]
    lines = [
        LANGUAGES[name].environment.format(version=tool.version) for name, tool in tools if isinstance(tool, Toolchain)
    ]
    if not lines:
        return ""
    if language == ANY:
        return f"Environment, any of: {'; '.join(lines)}."
    packages = find_packages(exercise.spec.packages) if exercise.spec.packages else None
    if isinstance(packages, Packages):
        listed = " and ".join(f"{name} {version}" for name, version in packages.versions)
        return f"Environment: {lines[0].replace('standard library only', f'standard library, {listed}')}."
    return f"Environment: {lines[0]}."


def render_text(text: str, prompting: PromptingTable, *, suffix: str = "\n") -> Ask:
    """A text in the plan's style; ``suffix`` is what follows the gap for a model that fills gaps."""
    if prompting.style == "chat":
        user = {"role": "user", "content": text}
        system = {"role": "system", "content": prompting.system}
        return Ask(messages=(system, user) if prompting.system else (user,), sampling={})
    whole = f"{prompting.system}\n\n{text}" if prompting.system else text
    if prompting.style == "infill":
        prefix, after, middle = prompting.infill_markers
        whole = f"{prefix}{whole}{after}{suffix}{middle}"
    return Ask(messages=({"role": "prompt", "content": whole},), sampling={}, is_chat=False)


def reply_text(reply: str, exercise: Exercise, prompting: PromptingTable) -> str:
    """A reply as extraction reads it: what continues an opened code block gets its opening back.

    A model that only continues may run on past its own end-of-text mark, or repeat the marks of the gap; the
    reply ends at the first of them.
    """
    if prompting.style == "chat":
        return reply
    ends = (*prompting.infill_markers, *_END_MARKS)
    kept = cut_at_stops(reply, ends)
    if is_bare(exercise, prompting) or exercise.spec.language == TEXT:
        return kept
    tag = "" if exercise.spec.language == ANY else exercise.spec.language
    return f"```{tag}\n{kept}"


# a model can fix these when it sees them; a refusal, a loop or a fault of ours it cannot
REPAIRABLE = frozenset(
    {
        Outcome.WRONG_ANSWER,
        Outcome.CRASHED,
        Outcome.NO_BUILD,
        Outcome.MISSING_MODULE,
        Outcome.WRONG_LANGUAGE,
        Outcome.NO_CODE,
        Outcome.TIMED_OUT,
        Outcome.OVER_LIMIT,
    }
)
ERROR_CHARS = 1500  # of the error that goes back

_OPENING = {
    Outcome.WRONG_ANSWER: "The code runs, but its result is wrong",
    Outcome.CRASHED: "The code fails when it runs",
    Outcome.NO_BUILD: "The code does not build",
    Outcome.MISSING_MODULE: "The code needs a package that is not there; only what the environment names may be used",
    Outcome.WRONG_LANGUAGE: "The code is not in the language that was asked for",
    Outcome.NO_CODE: "The reply holds no code block with the program",
    Outcome.TIMED_OUT: "The code does not end in time",
    Outcome.OVER_LIMIT: "The code uses more than it may",
}


def repair_words(grade: Grade) -> str:
    """What is said after a failed attempt."""
    error = next((check.feedback for check in grade.checks if check.required and check.feedback), "")
    told = f"{_OPENING[grade.outcome]}{': ' if error else '.'}{shorten(error, ERROR_CHARS)}"
    return f"{told}\n\nCorrect it and reply with the complete code in one code block."
