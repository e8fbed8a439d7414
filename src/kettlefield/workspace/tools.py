"""The tools that a model works with: what they are called, what they take, what they do to the files."""

import time
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import msgspec
import regex

from kettlefield.core.extraction.patching import Fit, apply_changes, parse_diff
from kettlefield.workspace.tree import Reason, ToolError, Tree, plain_path

MOST_RESULT_CHARS = 16_000  # of a result that goes back; what is cut is told
MOST_LISTED = 400
MOST_MATCHES = 100
MOST_LINE_CHARS = 300  # of a line that matched
MOST_PATTERN_CHARS = 300
SEARCH_WITHIN_S = 2.0  # a pattern that explodes ends here
EDIT_TOOLS = ("write_file", "replace_text", "apply_patch")


class Call(msgspec.Struct, frozen=True, kw_only=True):
    """One call as the model wrote it."""

    id: str
    tool: str
    written: str  # its arguments
    arguments: dict[str, Any] | None  # None: they are not a JSON object
    fault: str = ""  # why they are not


class Parameter(msgspec.Struct, frozen=True, kw_only=True):
    """One argument of a tool."""

    says: str
    kind: type = str
    required: bool = True


class Tool(msgspec.Struct, frozen=True, kw_only=True):
    """One tool; what it does takes the files and the arguments, and gives the text that goes back."""

    name: str
    says: str
    takes: Mapping[str, Parameter]
    does: Callable[[Tree, Mapping[str, Any]], str] | None = None  # None: whoever carries the run out does it
    is_edit: bool = False

    def schema(self) -> dict[str, Any]:
        """As the chat-completions API describes a function."""
        kinds = {str: "string", int: "integer"}
        return {
            "type": "function",
            "function": {
                "name": self.name,
                "description": self.says,
                "parameters": {
                    "type": "object",
                    "properties": {
                        name: {"type": kinds[one.kind], "description": one.says} for name, one in self.takes.items()
                    },
                    "required": [name for name, one in self.takes.items() if one.required],
                },
            },
        }

    def line(self) -> str:
        """As a prompt describes it."""
        taken = ", ".join(name if one.required else f"{name} (optional)" for name, one in self.takes.items())
        details = "; ".join(f"{name}: {one.says}" for name, one in self.takes.items())
        return f"- `{self.name}({taken})`: {self.says} {details}."


def _list_files(tree: Tree, given: Mapping[str, Any]) -> str:
    folder = given.get("path") or "."
    names = tree.below(folder)
    if not names:
        raise ToolError(Reason.NO_SUCH_FILE, f"There is no folder {folder}, or it is empty.")
    left = f"\n... and {len(names) - MOST_LISTED} more: name a folder" if len(names) > MOST_LISTED else ""
    return "\n".join(names[:MOST_LISTED]) + left


def _read_file(tree: Tree, given: Mapping[str, Any]) -> str:
    lines = tree.read(given["path"]).split("\n")
    if lines and not lines[-1]:
        lines.pop()
    first = max(1, given.get("first_line") or 1)
    last = min(len(lines), given.get("last_line") or len(lines))
    if first > len(lines) > 0:
        raise ToolError(Reason.BAD_ARGUMENTS, f"first_line is {first}, the file has {len(lines)} lines.")
    shown: list[str] = []
    room = MOST_RESULT_CHARS - 200
    for line in lines[first - 1 : last]:
        room -= len(line) + 1
        if room < 0:
            break
        shown.append(line)
    end = first + len(shown) - 1
    cut = f"; continue with first_line={end + 1}" if end < last else ""
    return f"[{plain_path(given['path'])}, lines {first} to {end} of {len(lines)}{cut}]\n" + "\n".join(shown)


def _search(tree: Tree, given: Mapping[str, Any]) -> str:
    """Lines that match; the engine's own time limit ends what would take for ever."""
    pattern, until_s = given["pattern"], time.monotonic() + SEARCH_WITHIN_S
    if len(pattern) > MOST_PATTERN_CHARS:
        raise ToolError(Reason.BAD_PATTERN, f"The pattern has {len(pattern)} characters, at most {MOST_PATTERN_CHARS}.")
    try:
        compiled = regex.compile(pattern)
    except (regex.error, OverflowError, RecursionError, MemoryError) as err:
        raise ToolError(Reason.BAD_PATTERN, f"The pattern is no regular expression: {err}.") from err
    folder = plain_path(given.get("path") or ".")
    names = [folder] if folder in tree.files else tree.below(folder)
    rows: list[str] = []
    for name in names:
        for number, line in enumerate(tree.files[name].split("\n"), 1):
            try:
                left_s = until_s - time.monotonic()
                if left_s <= 0:
                    raise TimeoutError
                matches = compiled.search(line, timeout=left_s)
            except TimeoutError as err:
                said = f"The search took more than {SEARCH_WITHIN_S:g} s: use a simpler pattern."
                raise ToolError(Reason.TIMED_OUT, said) from err
            if matches:
                if len(rows) == MOST_MATCHES:
                    return "\n".join(rows) + "\n... and more: narrow the pattern or the path"
                rows.append(f"{name}:{number}: {line[:MOST_LINE_CHARS]}")
    return "\n".join(rows) if rows else "no line matches"


def _write_file(tree: Tree, given: Mapping[str, Any]) -> str:
    was_there = plain_path(given["path"]) in tree.files
    name = tree.write(given["path"], given["content"])
    return f"{'replaced' if was_there else 'wrote'} {name}: {given['content'].count(chr(10))} lines"


def _replace_text(tree: Tree, given: Mapping[str, Any]) -> str:
    text, old = tree.read(given["path"]), given["old"]
    if not old:
        raise ToolError(Reason.BAD_ARGUMENTS, "old is empty: to write a whole file use another tool.")
    places = text.count(old)
    if places == 0:
        said = "old stands nowhere in the file: copy it exactly as read_file shows it, white space too."
        raise ToolError(Reason.NO_MATCH, said)
    if places > 1:
        raise ToolError(Reason.SEVERAL_MATCHES, f"old stands in {places} places: add lines around it until it is one.")
    return f"changed {tree.write(given['path'], text.replace(old, given['new']))}"


def _apply_patch(tree: Tree, given: Mapping[str, Any]) -> str:
    """One file's changes; a diff over several files names each, and its path argument only says where to begin."""
    edits = parse_diff(given["diff"])
    if not edits:
        raise ToolError(Reason.BAD_ARGUMENTS, "The diff holds no change: write hunks that begin with @@.")
    path, done = plain_path(given["path"]), []
    texts: dict[str, str] = {}
    for edit in edits:
        name = plain_path(edit.name) if edit.name and len(edits) > 1 else path
        if name not in tree.files and edit.is_new:
            texts[name] = edit.new_text
            done.append(f"wrote {name}")
            continue
        changed = apply_changes(texts.get(name, tree.read(name)), edit.changes)
        if changed.fit is Fit.NONE:
            said = f"The diff {Fit.NONE} to {name}: {changed.remarks[0]}. Nothing was changed; read the file again."
            raise ToolError(Reason.NO_MATCH, said)
        texts[name] = changed.text
        done.append(f"changed {name}, {changed.fit}" + "".join(f"; {remark}" for remark in changed.remarks))
    for name, text in texts.items():
        tree.write(name, text)
    return "\n".join(done)


def _delete_file(tree: Tree, given: Mapping[str, Any]) -> str:
    return f"deleted {tree.delete(given['path'])}"


_PATH = Parameter(says="path relative to the root of the workspace")
TOOLS = {
    tool.name: tool
    for tool in (
        Tool(
            name="list_files",
            says="List the files in a folder and below it.",
            takes={"path": Parameter(says="a folder; none: the whole workspace", required=False)},
            does=_list_files,
        ),
        Tool(
            name="read_file",
            says="Read a file, or some lines of it.",
            takes={
                "path": _PATH,
                "first_line": Parameter(says="from 1", kind=int, required=False),
                "last_line": Parameter(says="the last one that is shown", kind=int, required=False),
            },
            does=_read_file,
        ),
        Tool(
            name="search",
            says="Find the lines that match a regular expression.",
            takes={
                "pattern": Parameter(says="a regular expression, matched within a line"),
                "path": Parameter(says="a file or folder; none: the whole workspace", required=False),
            },
            does=_search,
        ),
        Tool(
            name="write_file",
            says="Write a whole file, new or in place of the old one.",
            takes={"path": _PATH, "content": Parameter(says="all of its text")},
            does=_write_file,
            is_edit=True,
        ),
        Tool(
            name="replace_text",
            says="Replace a piece of a file that stands in it exactly once.",
            takes={
                "path": _PATH,
                "old": Parameter(says="the text that is replaced, exactly as it stands"),
                "new": Parameter(says="what stands there instead"),
            },
            does=_replace_text,
            is_edit=True,
        ),
        Tool(
            name="apply_patch",
            says="Change a file by a unified diff.",
            takes={"path": _PATH, "diff": Parameter(says="hunks of a unified diff, with lines of context")},
            does=_apply_patch,
            is_edit=True,
        ),
        Tool(name="delete_file", says="Delete a file.", takes={"path": _PATH}, does=_delete_file, is_edit=True),
        Tool(
            name="run",
            says="Run one of the commands that the task names, and see what it prints. Files that it writes are not "
            "kept.",
            takes={"command": Parameter(says="the command's name")},
        ),
        Tool(
            name="finish",
            says="Say that the work is done. Nothing can be changed afterwards.",
            takes={"summary": Parameter(says="what was changed, in a sentence", required=False)},
        ),
    )
}


def offered(edit_tools: Sequence[str], commands: Sequence[str]) -> list[Tool]:
    """The tools of one run: those that edit as the plan has them, ``run`` where there is a command."""
    left_out = set(EDIT_TOOLS) - set(edit_tools) | (set() if commands else {"run"})
    return [tool for name, tool in TOOLS.items() if name not in left_out]


def checked_arguments(tool: Tool, call: Call) -> dict[str, Any]:
    """A call's arguments as the tool takes them; further ones are passed over, a number may be written as text.

    Raises
    ------
    ToolError
        They are not JSON, one is missing or of another type.
    """
    if call.arguments is None:
        raise ToolError(Reason.BAD_JSON, call.fault)
    given: dict[str, Any] = {}
    for name, one in tool.takes.items():
        value = call.arguments.get(name)
        if value is None:
            if one.required:
                raise ToolError(Reason.BAD_ARGUMENTS, f"{tool.name} needs {name}: {one.says}.")
            continue
        if one.kind is int and isinstance(value, str) and value.strip().isdecimal() and len(value) < 10:
            value = int(value)
        if isinstance(value, bool) or not isinstance(value, one.kind):
            wanted = "a whole number" if one.kind is int else "text"
            raise ToolError(Reason.BAD_ARGUMENTS, f"{name} must be {wanted}, not {type(value).__name__}.")
        given[name] = value
    return given


def cut_result(text: str, most: int = MOST_RESULT_CHARS) -> str:
    """A result as it goes back: beginning and end, with a note of what is left out between them."""
    if len(text) <= most:
        return text
    head, tail = most // 3, most - most // 3
    return f"{text[:head]}\n[... {len(text) - most:,} characters left out ...]\n{text[-tail:]}"


# of the preflight check: a call that a server which carries functions out must bring back
PROBED = TOOLS["list_files"]
PROBE_WISH = f"Call the tool {PROBED.name} for the folder `src`. Do nothing else."
