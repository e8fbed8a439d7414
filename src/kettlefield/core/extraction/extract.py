"""From what a model wrote to the files it meant: no one copies code out of replies by hand.

Blocks are found (``fences``), chosen and named (``choosing``), or there are none (``baretext``); edits are
applied to the given files (``editing``), several files distinguished (``manyfiles``), continuations cut and put
into their gap (``gaps``). This module is the order in which that happens.
"""

import msgspec

from kettlefield.core.extraction.bare_text import bare_code, repaired, scripts_of_page, without_prompts
from kettlefield.core.extraction.choosing import choose_blocks, language_of, tag_of, title_of
from kettlefield.core.extraction.continuation import continue_opening, put_in_gap, without_half_written
from kettlefield.core.extraction.fences import Block, find_blocks
from kettlefield.core.extraction.patching import apply_edits
from kettlefield.core.extraction.reply_symptoms import without_thinking
from kettlefield.core.extraction.several_files import collect_files, page_answer
from kettlefield.core.extraction.syntax import ANY, PAGE, TEXT, Syntax, Syntaxes
from kettlefield.core.extraction.wanted import Answer, Wanted
from kettlefield.core.plaintext import is_safe_name

MOST_BLOCKS = 400  # more is not a reply of a few files


def extract_answer(reply: str, wanted: Wanted, languages: Syntaxes) -> Answer:
    """Find the asked-for files in a reply. Never raises, whatever the reply holds.

    Parameters
    ----------
    reply : str
        All that the model wrote, without a reasoning field.
    wanted : Wanted
        What the exercise asks for.
    languages : Syntaxes
        Those that a reply may be written in.
    """
    text = reply.replace("\r\n", "\n").replace("\r", "\n").removeprefix("\ufeff")
    text, remarks = without_thinking(text)
    answer = _extract(text, wanted, languages)
    # a tag chooses among blocks, but what was asked for in one language is built and run as that language
    language = answer.language if wanted.language == ANY else _told(wanted)
    return msgspec.structs.replace(answer, remarks=(*remarks, *answer.remarks), language=language)


def answer_text(reply: str) -> str:
    """A reply without its thinking, for checks that read the words themselves."""
    return without_thinking(reply)[0].strip()


def _told(wanted: Wanted) -> str | None:
    return None if wanted.language in {ANY, TEXT} else wanted.language


def _extract(text: str, wanted: Wanted, languages: Syntaxes) -> Answer:
    if wanted.language == TEXT:
        files = {wanted.file: text.strip() + "\n"} if text.strip() else {}
        return Answer(files=files, how="the reply's own words" if files else "the reply is empty")
    if wanted.continued and wanted.gap is not None:
        return continue_opening(text, wanted, wanted.gap, languages.get(wanted.language))
    blocks = _at_most(tuple(inner for block in find_blocks(text) for inner in _unwrapped(block)))
    if wanted.language == PAGE and wanted.file not in wanted.given:
        return page_answer(text, blocks, wanted, languages)
    if wanted.given and (edited := apply_edits(text, blocks, wanted)) is not None:
        return edited
    if wanted.language == PAGE:
        return page_answer(text, blocks, wanted, languages)
    if wanted.others and (several := collect_files(blocks, wanted, languages)) is not None:
        return several
    if blocks:
        return _from_blocks(blocks, wanted, languages)
    return _from_bare_text(text, wanted, languages)


# --- one file -------------------------------------------------------------------------------------------


def _from_blocks(blocks: tuple[Block, ...], wanted: Wanted, languages: Syntaxes) -> Answer:
    chosen = choose_blocks(blocks, wanted, languages)
    if not chosen:
        return Answer(files={}, how=f"{len(blocks)} blocks, none of them {title_of(wanted.language, languages)} code")
    parts = [blocks[number] for number in chosen]
    if len(chosen) > 1:
        how = f"blocks {', '.join(str(number + 1) for number in chosen)} of {len(blocks)} together"
    else:
        how = "the only block" if len(blocks) == 1 else f"block {chosen[0] + 1} of {len(blocks)}"
    language = language_of(parts[0], languages)
    text = "\n".join(part.text for part in parts)
    cut = any(not part.closed for part in parts)
    answer = _answer(text, wanted, languages, how=how, cut=cut, tagged=language)
    return msgspec.structs.replace(answer, language=language or answer.language)


def _unwrapped(block: Block) -> tuple[Block, ...]:
    """The blocks inside a block of Markdown: a reply that was fenced as a whole."""
    is_markdown = tag_of(block) in {"markdown", "md"} and "```" in block.text
    return (find_blocks(block.text) or (block,)) if is_markdown else (block,)


def _at_most(blocks: tuple[Block, ...]) -> tuple[Block, ...]:
    """The blocks that are looked at: of a reply that runs away, the first and the last."""
    return blocks if len(blocks) <= MOST_BLOCKS else blocks[: MOST_BLOCKS // 2] + blocks[-MOST_BLOCKS // 2 :]


def _from_bare_text(text: str, wanted: Wanted, languages: Syntaxes) -> Answer:
    how = "no fence: code taken from the bare text"
    language = languages.guess(text) if wanted.language == ANY else wanted.language
    syntax = languages.get(language) if language is not None else None
    page = scripts_of_page(text) if syntax is not None and syntax.in_pages else None
    code = page or (bare_code(text, syntax) if syntax is not None else None)
    if code is None:
        return Answer(files={}, how="no code block, and no line that starts a program")
    return _answer(code, wanted, languages, how=how, tagged=language)


def _answer(
    text: str, wanted: Wanted, languages: Syntaxes, *, how: str, cut: bool = False, tagged: str | None = None
) -> Answer:
    """The text as the wanted file: transcripts, pages, typography and gaps seen to."""
    language = wanted.language
    if language == ANY:
        language = tagged or languages.guess(text) or ANY
    remarks = ["the block never ended"] if cut else []
    syntax = languages.get(language)
    bare = without_prompts(text, syntax) if syntax is not None else text
    if bare != text:
        text = bare
        remarks.append("a transcript of the interpreter, turned back into the program")
    script = scripts_of_page(text) if syntax is not None and syntax.in_pages else None
    if script is not None:
        text = script
        remarks.append("a page: its scripts taken")
    plain = repaired(text, syntax) if syntax is not None else None
    if plain is not None:
        text = plain
        remarks.append("typographic quotes, spaces or invisible characters replaced: as given it did not parse")
    if cut and (kept := without_half_written(text, syntax, wanted.entry)) is not None:
        text = kept
        remarks.append("what was half-written behind the asked-for code was cut")
    if wanted.gap is not None and tagged in {None, wanted.language}:
        text, remark = put_in_gap(text, wanted.gap, wanted.entry, languages.get(wanted.language))
        remarks += [remark] if remark else []
    name = _main_name(text, wanted, syntax)
    return Answer(
        files={name: text},
        how=how,
        remarks=tuple(remarks),
        cut=cut,
        language=language if language != ANY else None,
    )


def _main_name(text: str, wanted: Wanted, language: Syntax | None) -> str:
    """The wanted name; where the language was left open, the one that the language calls for."""
    if wanted.language != ANY or language is None:
        return wanted.file
    name = language.file_name(text)
    return name if is_safe_name(name) else language.file_name("")
