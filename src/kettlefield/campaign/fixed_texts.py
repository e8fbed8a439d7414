"""The texts that every candidate is scored on: the suite's own answers after their prompts, and the user's files."""

import random
from collections.abc import Sequence
from pathlib import Path

from kettlefield.core.errors import InputError
from kettlefield.core.extraction.syntax import TEXT
from kettlefield.languages.all_languages import LANGUAGES
from kettlefield.measure.fidelity import FixedText
from kettlefield.measure.settings import FidelityTable
from kettlefield.suite.format import Exercise

MOST_FILES = 500
MOST_FILE_BYTES = 2**20
DRAW = "fixed texts"


def fixed_texts(table: FidelityTable, exercises: Sequence[Exercise], folder: Path) -> tuple[FixedText, ...]:
    """Draw the texts of a plan; the same plan and suite give the same ones.

    Own answers come language by language in turn, so that each has its share.

    Parameters
    ----------
    table : FidelityTable
        What is wanted.
    exercises : sequence of Exercise
        The suite, variants settled.
    folder : Path
        What patterns of files are relative to.

    Raises
    ------
    InputError
        A pattern matches nothing, or a file is binary or too large.
    """
    by_language: dict[str, list[Exercise]] = {}
    for exercise in sorted(exercises, key=lambda one: one.id):
        if exercise.spec.language != TEXT and not exercise.workspace:
            by_language.setdefault(exercise.spec.language, []).append(exercise)
    rng = random.Random(DRAW)
    for group in by_language.values():
        rng.shuffle(group)
    drawn: list[Exercise] = []
    while len(drawn) < table.texts and any(by_language.values()):
        for group in by_language.values():
            if group and len(drawn) < table.texts:
                drawn.append(group.pop())
    texts = [_of_exercise(exercise, table.most_chars) for exercise in drawn]
    return tuple(
        texts
        + [
            _of_file(path, folder, table.most_chars)
            for path in text_files(table.text_files, folder, "[fidelity] text_files")
        ]
    )


def _of_exercise(exercise: Exercise, most_chars: int) -> FixedText:
    main = exercise.answer.get(exercise.spec.file or "") or next(iter(exercise.answer.values()))
    before = f"{exercise.prompt.rstrip()}\n\n```{exercise.spec.language}\n"
    asked = exercise.prompt.strip()
    language = exercise.spec.language
    return FixedText(id=exercise.id, language=language, before=before, scored=main[:most_chars], asked=asked)


def text_files(patterns: Sequence[str], folder: Path, where: str) -> list[Path]:
    """The files that patterns of a plan match, each once, in their order.

    Raises
    ------
    InputError
        A pattern matches nothing, or all too much; ``where`` is the table and key that holds them.
    """
    table, key = where.split()
    found: dict[Path, None] = {}
    for pattern in patterns:
        matched = [path for path in sorted(folder.glob(pattern)) if path.is_file()]
        if not matched:
            raise InputError(f'{key} "{pattern}" matches no file', f"{folder} {table}", "Correct the pattern.")
        found |= dict.fromkeys(matched)
    if len(found) > MOST_FILES:
        raise InputError(f"{key} match {len(found)} files", f"{folder} {table}", f"At most {MOST_FILES}.")
    return list(found)


def read_text_file(path: Path, key: str) -> str:
    """A text file that a plan's key names.

    Raises
    ------
    InputError
        It is binary, empty or too large, or cannot be read.
    """
    size = path.stat().st_size
    if size > MOST_FILE_BYTES:
        raise InputError(f"has {size:,} bytes, at most {MOST_FILE_BYTES:,}", str(path), f"Leave it out of {key}.")
    try:
        text = path.read_text(encoding="utf-8")
    except UnicodeDecodeError as err:
        raise InputError("is not text in UTF-8", str(path), f"Leave it out of {key}.") from err
    except OSError as err:
        raise InputError(f"cannot be read ({err.strerror})", str(path), "Check its permissions.") from err
    if "\0" in text or not text.strip():
        raise InputError("is binary or empty", str(path), f"Leave it out of {key}.")
    return text


def _of_file(path: Path, folder: Path, most_chars: int) -> FixedText:
    text = read_text_file(path, "text_files")
    language = LANGUAGES.of_suffix(path.name) or "other"
    # the first line is read and not scored: the first token of a text has nothing before it
    first, line, rest = text[:most_chars].partition("\n")
    before, scored = (first + line, rest) if rest.strip() else (text[:1], text[1:most_chars])
    return FixedText(id=f"file:{path.relative_to(folder).as_posix()}", language=language, before=before, scored=scored)
