"""Answers of several files: each from the block with its name, or a page with its sheets and scripts."""

import re
from pathlib import PurePosixPath

from kettlefield.core.extraction.choosing import language_of, name_of, tag_of
from kettlefield.core.extraction.fences import Block
from kettlefield.core.extraction.syntax import NO_PROGRAM, PAGE, Syntaxes
from kettlefield.core.extraction.wanted import Answer, Wanted, main_first
from kettlefield.core.plaintext import fits_beside, is_safe_name, visible

MAX_EXTRA_FILES = 20  # beside those asked for; more is not a small program


def collect_files(blocks: tuple[Block, ...], wanted: Wanted, languages: Syntaxes) -> Answer | None:
    """Each wanted file from the block that is named like it; what stays unnamed is given out in order."""
    names = (wanted.file, *wanted.others)
    chosen: dict[str, Block] = {}
    unnamed: list[Block] = []
    remarks: list[str] = []
    extra: dict[str, Block] = {}
    for block in blocks:
        name = name_of(block)
        target = _wanted_name(name, names)
        if target is not None:
            chosen[target] = block  # a later block is the corrected one
        elif name is not None and not is_safe_name(name):
            remarks.append(f"a file named {visible(name, keep_lines=False)!r} is left out: the name leaves the folder")
        elif name is not None and not fits_beside(name, (*names, *wanted.given, *extra)):
            remarks.append(f"a file named {name!r} is left out: another file is in the place of its folder")
        elif name is not None and language_of(block, languages) == wanted.language and len(extra) < MAX_EXTRA_FILES:
            extra[name] = block
        elif block.text.strip() and tag_of(block) not in NO_PROGRAM:
            unnamed.append(block)
    for name in names:
        if name not in chosen and (pick := _pick(unnamed, name, languages)) is not None:
            chosen[name] = unnamed.pop(pick)
            remarks.append(f"{name} was not named: taken by its order")
    if not chosen:
        return None
    files = {**wanted.given, **{name: block.text for name, block in (chosen | extra).items()}}
    missing = [name for name in names if name not in files]
    if missing:
        remarks.append(f"missing: {', '.join(missing)}")
    if wanted.file not in files:
        return Answer(files={}, how=f"no block for {wanted.file}", remarks=tuple(remarks))
    return Answer(
        files=main_first(files, wanted.file),
        how=f"{len(chosen)} of {len(names)} files by their names",
        remarks=tuple(remarks),
        cut=any(not block.closed for block in chosen.values()),
    )


def _wanted_name(name: str | None, names: tuple[str, ...]) -> str | None:
    """The wanted file that a found name means: itself, or with folders before it that are only decoration."""
    if name is None or not is_safe_name(name.removeprefix("./")):
        return None
    return next((wanted for wanted in names if name == wanted or name.endswith("/" + wanted)), None)


def _pick(unnamed: list[Block], name: str, languages: Syntaxes) -> int | None:
    """The first unnamed block whose language fits the file's suffix."""
    suffix = PurePosixPath(name).suffix
    for index, block in enumerate(unnamed):
        language = language_of(block, languages) or languages.guess(block.text)
        if language is not None and languages[language].suffix == suffix:
            return index
    return None


_DOCUMENT = re.compile(r"<!doctype\s++html|<html\b|<body\b|<head\b", re.IGNORECASE)
_START = re.compile(r"<!doctype\s++html|<html\b", re.IGNORECASE)
_END = re.compile(r"</html\s*+>", re.IGNORECASE)
_NAMED = re.compile(
    r"""<(?:link|script)\b[^>]{0,400}?\b(?:href|src)\s*=\s*["']?(?:\./)?([^"'\s>]{1,200})""", re.IGNORECASE
)
_RULE = re.compile(r"^[^{}\n;]{1,200}\{\s*+(?:[\w-]++\s*+:|$)", re.MULTILINE)


def page_answer(text: str, blocks: tuple[Block, ...], wanted: Wanted, languages: Syntaxes) -> Answer:
    """A page from a reply: its document, and whatever files of its own the document asks for.

    Parameters
    ----------
    text : str
        The reply without its thinking.
    blocks : tuple of Block
        Its fenced blocks.
    wanted : Wanted
        ``given`` are files that the page may use; ``others`` must be among the blocks.
    languages : Syntaxes
        For what a block's tag or its text says.
    """
    if not blocks:
        return _from_bare_text(text, wanted)
    main = _main_block(blocks, wanted, languages)
    if main is None:
        return Answer(files={}, how=f"{len(blocks)} blocks, none of them a page")
    document = blocks[main]
    rest = [block for number, block in enumerate(blocks) if number != main and _may_be_file(block)]
    names = list(dict.fromkeys((*wanted.others, *_files_named(document.text))))
    files, remarks, used = {**wanted.given, wanted.file: document.text}, [], [document]
    for name in names:
        block = _block_for(name, rest, languages)
        if block is not None and not fits_beside(name, files):
            remarks.append(f"a file named {name!r} is left out: another file is in the place of its folder")
        elif block is not None:
            rest.remove(block)
            used.append(block)
            files[name] = block.text
            if name_of(block) is None:
                remarks.append(f"{name} was not named: taken by its language")
    missing = [name for name in wanted.others if name not in files]
    if missing:
        remarks.append(f"missing: {', '.join(missing)}")
    if any(not block.closed for block in used):
        remarks.append("the block never ended")
    return Answer(
        files=main_first(files, wanted.file),
        how=f"the page in block {main + 1} of {len(blocks)}"
        + (f", and {len(used) - 1} of its files" if used[1:] else ""),
        remarks=tuple(remarks),
        cut=any(not block.closed for block in used),
        language=PAGE,
    )


def _from_bare_text(text: str, wanted: Wanted) -> Answer:
    start, ends = _START.search(text), list(_END.finditer(text))
    if start is None:
        return Answer(files={}, how="no code block, and nothing that starts a page")
    end = ends[-1].end() if ends else len(text)
    files = {**wanted.given, wanted.file: text[start.start() : end].rstrip("\n") + "\n"}
    how = "no fence: the page taken from the bare text"
    return Answer(files=main_first(files, wanted.file), how=how, cut=not ends, language=PAGE)


def _main_block(blocks: tuple[Block, ...], wanted: Wanted, languages: Syntaxes) -> int | None:
    """The document: a block named like it, else tagged as a page, else one that reads like one; the longest of them."""

    def rank(number: int) -> tuple[bool, bool, int]:
        block = blocks[number]
        named = name_of(block) or ""
        return (
            named == wanted.file or named.endswith("/" + wanted.file),
            bool(_START.search(block.text)),
            len(block.text),
        )

    fit = [
        number
        for number, block in enumerate(blocks)
        if (language := language_of(block, languages)) == PAGE or (language is None and _DOCUMENT.search(block.text))
    ]
    return max(fit, key=rank, default=None)


def _may_be_file(block: Block) -> bool:
    return bool(block.text.strip()) and tag_of(block) not in NO_PROGRAM


def _files_named(document: str) -> list[str]:
    """Local files that a document loads, by the names it has for them."""
    return [name for name in _NAMED.findall(document) if is_safe_name(name) and PurePosixPath(name).suffix]


def _block_for(name: str, blocks: list[Block], languages: Syntaxes) -> Block | None:
    """The block named like the file, the last of them; else the first without a name that is of its language."""
    named = [
        b for b in blocks if (called := name_of(b)) is not None and (called == name or called.endswith("/" + name))
    ]
    if named:
        return named[-1]
    wanted = languages.of_suffix(name)
    return next(
        (b for b in blocks if name_of(b) is None and wanted is not None and _language(b, languages) == wanted), None
    )


def _language(block: Block, languages: Syntaxes) -> str | None:
    named = language_of(block, languages)
    if named is None:
        named = "css" if _RULE.search(block.text) and "function" not in block.text else languages.guess(block.text)
    return named
