"""Diffs over several files: put into a set of files, and made from two of them."""

import difflib
from collections.abc import Mapping

from kettlefield.core.extraction.patching import Fit, apply_changes, parse_diff


def patched(files: Mapping[str, str], diff: str) -> tuple[dict[str, str], str]:
    """Files after a unified diff over several of them, and what did not fit; empty: all did, exactly.

    A file whose every line the diff takes away is deleted.
    """
    result = dict(files)
    for edit in parse_diff(diff):
        name = edit.name
        if name is None:
            return dict(files), "it names no file"
        if name not in result:
            if not edit.is_new:
                return dict(files), f"there is no {name}"
            result[name] = edit.new_text
            continue
        changed = apply_changes(result[name], edit.changes)
        if changed.fit is not Fit.CLEAN:
            return dict(files), f"{name}: it {changed.fit}"
        result[name] = changed.text
        if not changed.text.strip() and not any(change.new for change in edit.changes):
            del result[name]
    return result, ""


def diff_of(before: Mapping[str, str], after: Mapping[str, str]) -> str:
    """What changed, as a unified diff that ``patched`` takes."""
    parts = []
    for name in sorted({*before, *after}):
        old, new = before.get(name), after.get(name)
        if old != new:
            rows = difflib.unified_diff(
                (old or "").splitlines(),
                (new or "").splitlines(),
                f"a/{name}" if old is not None else "/dev/null",
                # a file that is deleted keeps its name, so that the diff says which it is
                f"b/{name}",
                lineterm="",
            )
            parts += [row + "\n" for row in rows]
    return "".join(parts)


def lines_changed(before: Mapping[str, str], after: Mapping[str, str]) -> int:
    """Lines that were added or taken away."""
    rows = diff_of(before, after).splitlines()
    return sum(row[:1] in "+-" and not row.startswith(("+++ ", "--- ")) for row in rows)
