"""Replies that edit what they were given: the diffs and pairs found in them, applied to the given files."""

import re
from pathlib import PurePosixPath

from kettlefield.core.answer import Answer, Wanted, ordered_files
from kettlefield.core.choosing import tag_of
from kettlefield.core.fences import Block
from kettlefield.core.patching import FileEdit, Fit, apply_changes, parse_diff, parse_pairs
from kettlefield.core.plaintext import visible

_DIFF_START = re.compile(r"^(?:--- [^\n]+\n\+\+\+ |@@+ -\d)", re.MULTILINE)
_PAIR_START = re.compile(r"^[ \t]*<{5,9}[ \t]*(?:SEARCH|ORIGINAL|OLD|HEAD)?[ \t]*$", re.IGNORECASE | re.MULTILINE)


def apply_edits(text: str, blocks: tuple[Block, ...], wanted: Wanted) -> Answer | None:
    """The given files after the reply's edits; None when it holds no edit, so that a whole file is looked for."""
    sources = [block.text for block in blocks if tag_of(block) in {"diff", "patch"} or _DIFF_START.search(block.text)]
    if not blocks and _DIFF_START.search(text):
        sources = [text]
    edits = [edit for source in sources for edit in parse_diff(source)]
    form = "a diff"
    if not edits and _PAIR_START.search(text):
        # the line that names a pair's file may stand outside its fence, so the reply is read as a whole
        edits, form = list(parse_pairs(text)), "search/replace pairs"
    if not edits:
        return None
    files, remarks, worst = dict(wanted.given), [], Fit.CLEAN
    for edit in edits:
        name = _edited_file(edit, wanted)
        if name is None or not (name in files or edit.is_new):
            remarks.append(
                f"an edit of {visible(edit.name or '', keep_lines=False)!r}, which was not given, is left out"
            )
            continue
        if name not in files:
            files[name] = edit.new_text
            remarks.append(f"{name}: a new file")
            continue
        patched = apply_changes(files[name], edit.changes)
        if patched.fit is Fit.NONE:
            return Answer(files=(), how=f"{form} that {Fit.NONE}: {name}: {patched.remarks[0]}")
        files[name] = patched.text
        worst = Fit.FUZZ if Fit.FUZZ in {worst, patched.fit} else worst
        remarks += [f"{name}: {remark}" for remark in patched.remarks]
    if files == dict(wanted.given):
        return Answer(files=(), how=f"{form} that changes nothing that was given")
    if wanted.file not in files:
        return Answer(files=(), how=f"{form} that leaves out {wanted.file}", remarks=tuple(remarks))
    return Answer(files=ordered_files(files, wanted.file), how=f"{form}, {worst}", remarks=tuple(remarks))


def _edited_file(edit: FileEdit, wanted: Wanted) -> str | None:
    if edit.name is None:
        return wanted.file if wanted.file in wanted.given else next(iter(wanted.given), None)
    asked = (*wanted.given, wanted.file, *wanted.others)
    if edit.name in asked:
        return edit.name
    base = PurePosixPath(edit.name).name
    near = [name for name in dict.fromkeys(asked) if PurePosixPath(name).name == base]
    if len(near) == 1:
        return near[0]
    return next(iter(wanted.given)) if len(wanted.given) == 1 and not edit.is_new else None
