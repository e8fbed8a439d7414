"""Answers of several files: each from the block that is named like it."""

from pathlib import PurePosixPath

from kettlefield.core.answer import Answer, Wanted, ordered_files
from kettlefield.core.choosing import guess_language, language_of, name_of, tag_of
from kettlefield.core.fences import Block
from kettlefield.core.filenames import fits_beside, is_safe_name
from kettlefield.core.languages import LANGUAGES, NO_PROGRAM
from kettlefield.core.plaintext import visible

MAX_EXTRA_FILES = 20  # beside those asked for; more is no small program


def collect_files(blocks: tuple[Block, ...], wanted: Wanted) -> Answer | None:
    """Each wanted file from the block that is named like it; what stays unnamed is given out in order."""
    names = (wanted.file, *wanted.others)
    found: dict[str, Block] = {}
    unnamed: list[Block] = []
    remarks: list[str] = []
    extra: dict[str, Block] = {}
    for block in blocks:
        name = name_of(block)
        target = _wanted_name(name, names)
        if target is not None:
            found[target] = block  # a later block is the corrected one
        elif name is not None and not is_safe_name(name):
            remarks.append(f"a file named {visible(name, keep_lines=False)!r} is left out: the name leaves the folder")
        elif name is not None and not fits_beside(name, (*names, *wanted.given, *extra)):
            remarks.append(f"a file named {name!r} is left out: another file is in the place of its folder")
        elif name is not None and language_of(block) == wanted.language and len(extra) < MAX_EXTRA_FILES:
            extra[name] = block
        elif block.text.strip() and tag_of(block) not in NO_PROGRAM:
            unnamed.append(block)
    for name in names:
        if name not in found and (pick := _pick(unnamed, name)) is not None:
            found[name] = unnamed.pop(pick)
            remarks.append(f"{name} was not named: taken by its order")
    if not found:
        return None
    files = {**wanted.given, **{name: block.text for name, block in (found | extra).items()}}
    missing = [name for name in names if name not in files]
    if missing:
        remarks.append(f"missing: {', '.join(missing)}")
    if wanted.file not in files:
        return Answer(files=(), how=f"no block for {wanted.file}", remarks=tuple(remarks))
    return Answer(
        files=ordered_files(files, wanted.file),
        how=f"{len(found)} of {len(names)} files by their names",
        remarks=tuple(remarks),
        cut=any(not block.closed for block in found.values()),
    )


def _wanted_name(name: str | None, names: tuple[str, ...]) -> str | None:
    """The wanted file that a found name means: itself, or with folders before it that are only decoration."""
    if name is None or not is_safe_name(name.removeprefix("./")):
        return None
    return next((wanted for wanted in names if name == wanted or name.endswith("/" + wanted)), None)


def _pick(unnamed: list[Block], name: str) -> int | None:
    """The first unnamed block whose language fits the file's suffix."""
    suffix = PurePosixPath(name).suffix
    for index, block in enumerate(unnamed):
        language = language_of(block) or guess_language(block.text)
        if language is not None and LANGUAGES[language].suffix == suffix:
            return index
    return None
