"""The files of a workspace while a model works on them: kept in memory, so that no path leads out of it."""

import difflib
import posixpath
from enum import StrEnum

import msgspec

MOST_FILES = 2_000
MOST_FILE_CHARS = 400_000
MOST_CHARS = 8 * 2**20  # of all files together
MOST_PATH_CHARS = 200
MOST_DEPTH = 12  # folders


class Reason(StrEnum):
    """Why a call of a tool failed."""

    BAD_JSON = "bad-json"  # the arguments are not a JSON object
    BAD_ARGUMENTS = "bad-arguments"  # one is missing, or of another type
    UNKNOWN_TOOL = "unknown-tool"
    OUTSIDE = "outside"  # a path that leads out of the workspace
    NO_SUCH_FILE = "no-such-file"
    NO_MATCH = "no-match"  # an edit whose old text stands nowhere
    SEVERAL_MATCHES = "several-matches"  # or in several places
    BAD_PATTERN = "bad-pattern"
    TOO_LARGE = "too-large"
    TIMED_OUT = "timed-out"
    UNKNOWN_COMMAND = "unknown-command"
    COMMAND_LIMIT = "command-limit"  # a command that took more than it may


class ToolError(Exception):
    """A call that was not carried out; the message goes back to the model."""

    def __init__(self, reason: Reason, message: str) -> None:
        super().__init__(message)
        self.reason, self.message = reason, message


class Tree(msgspec.Struct):
    """Files by path; every path is relative, with plain slashes and without ``..``."""

    files: dict[str, str]
    chars: int = 0  # counted from the files

    def __post_init__(self) -> None:
        self.chars = sum(map(len, self.files.values()))

    def read(self, path: str) -> str:
        """The text of a file.

        Raises
        ------
        ToolError
            There is none, or the path leads out.
        """
        name = plain_path(path)
        if name in self.files:
            return self.files[name]
        if self.below(name):
            raise ToolError(Reason.NO_SUCH_FILE, f"{name} is a folder. Call list_files to see what it holds.")
        near = difflib.get_close_matches(name, self.files, n=1)
        hint = f" Did you mean {near[0]}?" if near else " Call list_files to see what there is."
        raise ToolError(Reason.NO_SUCH_FILE, f"There is no file {name}.{hint}")

    def write(self, path: str, text: str) -> str:
        """Put a file in place, new or not; its plain path.

        Raises
        ------
        ToolError
            The path leads out or is a folder, or there is too much of it.
        """
        name = plain_path(path)
        parents = [name[:at] for at, character in enumerate(name) if character == "/"]
        if name == "." or self.below(name) or any(parent in self.files for parent in parents):
            raise ToolError(Reason.BAD_ARGUMENTS, f"{name} cannot be a file: a folder or file is in its way.")
        chars = self.chars - len(self.files.get(name, "")) + len(text)
        if len(text) > MOST_FILE_CHARS:
            raise ToolError(Reason.TOO_LARGE, f"The text has {len(text):,} characters, at most {MOST_FILE_CHARS:,}.")
        if chars > MOST_CHARS or (name not in self.files and len(self.files) >= MOST_FILES):
            raise ToolError(Reason.TOO_LARGE, "The workspace is full: it holds no further file or text.")
        self.files[name] = text
        self.chars = chars
        return name

    def delete(self, path: str) -> str:
        """Take a file away; its plain path.

        Raises
        ------
        ToolError
            There is none, or the path leads out.
        """
        text = self.read(path)
        name = plain_path(path)
        del self.files[name]
        self.chars -= len(text)
        return name

    def below(self, folder: str) -> list[str]:
        """The files in a folder and below it, in order; "." is the workspace."""
        name = plain_path(folder)
        return sorted(self.files) if name == "." else sorted(one for one in self.files if one.startswith(f"{name}/"))


def plain_path(path: str) -> str:
    """A path as the workspace's files have it; "." for the workspace itself.

    Raises
    ------
    ToolError
        It leads out, or is no path.
    """
    if not path.isprintable() or "\\" in path or len(path) > MOST_PATH_CHARS or path.count("/") > MOST_DEPTH:
        raise ToolError(Reason.BAD_ARGUMENTS, "The path is too long or too deep, or holds characters that no path has.")
    name = posixpath.normpath(path or ".")
    if name.startswith(("/", "..")):
        hint = 'Use paths relative to the root of the workspace, such as "src/desk.py".'
        raise ToolError(Reason.OUTSIDE, f"{path} leads out of the workspace. {hint}")
    if ".git" in name.split("/"):
        raise ToolError(Reason.OUTSIDE, "The history is not part of the workspace.")
    return name
