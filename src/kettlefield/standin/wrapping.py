"""How a made-up model wraps its code: the fences, headings, asides and edits that real models use."""

import difflib
import random
from dataclasses import dataclass

from kettlefield.core.languages import LANGUAGES, TEXT
from kettlefield.suite.format import Exercise

EDIT_SHARE = 0.4  # of the answers to an exercise that gives a file come as a diff


@dataclass(frozen=True, slots=True)
class Reply:
    """One reply; thinking comes first, in a field of its own."""

    text: str
    thinking: str = ""
    endless: bool = False  # repeats its end until the cap


def wrap(exercise: Exercise, files: dict[str, str], rng: random.Random) -> Reply:
    """An answer's files as one of many shapes of reply."""
    code = files[exercise.spec.file]
    if exercise.spec.language == TEXT:
        return Reply(code)
    if len(files) > 1:
        return Reply(_opening(rng) + _several(exercise, files, rng))
    if exercise.spec.file in exercise.given and rng.random() < EDIT_SHARE:
        return Reply(_opening(rng) + _diff(exercise, code))
    return _one_file(exercise, code, rng)


def half_written(exercise: Exercise, rng: random.Random) -> str:
    """The first half of an answer in a fence that never ends: what a loop begins with."""
    lines = exercise.answer[exercise.spec.file].splitlines(keepends=True)
    return _opening(rng) + _fenced(exercise, "".join(lines[: max(1, len(lines) // 2)]), "```", closed=False)


def _opening(rng: random.Random) -> str:
    lines = (
        "Here is the code.",
        "Sure - this follows the rules step by step.",
        "Below is a complete solution.",
    )
    return rng.choice(lines) + "\n\n"


def _tag(exercise: Exercise) -> str:
    name = exercise.spec.language
    if name in LANGUAGES:
        return name
    suffix = exercise.spec.file[exercise.spec.file.rfind(".") :]
    return next((language.name for language in LANGUAGES.values() if language.suffix == suffix), "")


def _fenced(exercise: Exercise, code: str, fence: str, *, tag: str | None = None, closed: bool = True) -> str:
    language = tag if tag is not None else _tag(exercise)
    return f"{fence}{language}\n{code}" + (f"{fence}\n" if closed else "")


def _several(exercise: Exercise, files: dict[str, str], rng: random.Random) -> str:
    heading = rng.choice(("### `{}`\n\n", "**{}**\n\n", "`{}`:\n\n"))
    return "\n".join(heading.format(name) + _fenced(exercise, text, "```") for name, text in files.items())


def _diff(exercise: Exercise, code: str) -> str:
    name = exercise.spec.file
    given = exercise.given[name].splitlines(keepends=True)
    lines = difflib.unified_diff(given, code.splitlines(keepends=True), f"a/{name}", f"b/{name}")
    return f"```diff\n{''.join(lines)}```\n"


def _one_file(exercise: Exercise, code: str, rng: random.Random) -> Reply:
    title = LANGUAGES[_tag(exercise)].title
    usage = f"Save it as `{exercise.spec.file}` and run:\n\n```sh\n./run {exercise.spec.file}\n```\n"
    opening = _opening(rng)
    indented = "".join(
        f"   {line}" if line.strip() else line for line in _fenced(exercise, code, "```").splitlines(keepends=True)
    )
    shapes = [
        Reply(_fenced(exercise, code, "```")),
        Reply(opening + _fenced(exercise, code, "```")),
        Reply(opening + _fenced(exercise, code, "```") + "\nIt reads each value once.\n\n" + usage),
        Reply(_fenced(exercise, code, "~~~~", tag=title)),
        Reply(f"## {exercise.spec.file}\n\n" + _fenced(exercise, code, "````")),
        Reply(f"1. The program:\n\n{indented}\n2. Nothing else is needed.\n"),
        Reply(f"<think>\nThe rules name the order of the result.\n</think>\n\n{_fenced(exercise, code, '```')}"),
        Reply(
            _fenced(exercise, code, "```"),
            thinking="First the rules, then the order of the result, then the ends.",
        ),
    ]
    if exercise.spec.language in LANGUAGES:
        shapes += [Reply(_fenced(exercise, code, "```", tag="")), Reply(code)]
    return rng.choice(shapes)
