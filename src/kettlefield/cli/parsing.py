"""Arguments: only the command that was asked for is loaded, and a mistyped word is answered with the right one."""

from __future__ import annotations

import argparse
import keyword

from kettlefield import __version__
from kettlefield.cli.commands import COMMANDS

TYPE_CHECKING = False  # as typing has it: importing that takes half the time of `--help`
if TYPE_CHECKING:
    from collections.abc import Sequence
    from typing import Any, NoReturn

_CHOICE = r"argument (?P<what>.+?): invalid choice: '?(?P<word>.*?)'? \(choose from (?P<known>.*)\)"


class Parser(argparse.ArgumentParser):
    """A parser whose errors are one line: what, where, what to do."""

    def error(self, message: str) -> NoReturn:
        """Print the line and end with exit code 2."""
        import re  # noqa: PLC0415 - only when something was mistyped

        match = re.search(_CHOICE, message)
        if match is not None:
            known = [word.strip(" '") for word in match["known"].split(",")]
            what = "there is no command" if match["what"] == "COMMAND" else f"{match['what']} knows no"
            message = f'{what} "{match["word"]}"{nearest_word(match["word"], known)}'
        end = "" if message.endswith("?") else "."
        self.exit(2, f"{self.prog}: {message}{end} `{self.prog} --help` shows how.\n")

    def parse_args(self, args: Any = None, namespace: Any = None) -> Any:
        """As argparse does, but an unknown option is answered by the parser that it was given to."""
        parsed, unknown = self.parse_known_args(args, namespace)
        if unknown:
            asked: Parser = getattr(parsed, "parser", self)
            word = unknown[0].partition("=")[0]
            if word.startswith("-"):
                known = list(asked._option_string_actions)
                asked.error(f'unknown option "{word}"{nearest_word(word, known)}')
            asked.error(f'one word too many: "{word}"')
        return parsed


def nearest_word(word: str, known: Sequence[str]) -> str:
    """``; did you mean "compare"?`` where a known word resembles it, else nothing."""
    import difflib  # noqa: PLC0415 - only when something was mistyped

    close = difflib.get_close_matches(word, known, n=1, cutoff=0.5)
    return f'; did you mean "{close[0]}"?' if close else ""


def build_parser(argv: Sequence[str], *, whole: bool = False) -> Parser:
    """The parser, with the arguments of the command that ``argv`` names, or of all commands.

    Parameters
    ----------
    argv : sequence of str
        The words behind the program's name.
    whole : bool
        For shell completion: every command's.
    """
    parser = Parser(
        prog="kettlefield",
        description="Qualify open-weight code models on your own hardware before approving one.",
        epilog=_EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--version", action="version", version=f"kettlefield {__version__}")
    parser.add_argument("-v", "--verbose", action="count", default=0, help="say more (-vv: everything)")
    commands = parser.add_subparsers(metavar="COMMAND", dest="command")
    asked = next((word for word in argv if word in COMMANDS), None)
    for name, line in COMMANDS.items():
        if whole or name == asked:
            from importlib import import_module  # noqa: PLC0415

            module = f"{name}_" if keyword.iskeyword(name) else name
            import_module(f"kettlefield.cli.{module}").add_parser(commands)
            commands.choices[name].set_defaults(parser=commands.choices[name])
        else:
            commands.add_parser(name, help=line)
    return parser


def complete(parser: Parser) -> None:
    """Answer a shell that asks how to complete a word; see the guide for how to set it up."""
    import argcomplete  # noqa: PLC0415 - only a shell needs it

    argcomplete.autocomplete(parser)


_EPILOG = """\
a first look: kettlefield try FILE... --server 'COMMAND {weights} {port}'

the order of work:
  1. kettlefield rig                    what this machine is, and what is missing
  2. kettlefield weigh FILE...          what the weights are, what they need, what fits
  3. kettlefield draft FILE... -o plan.toml   then set its criteria - before any result is seen
  4. kettlefield suite list berthdesk   what will be asked, and what that can show
     kettlefield vet berthdesk          prove that the suite's checks can be trusted
     kettlefield calibrate              the stopwatch's own error on this machine
  5. kettlefield qualify plan.toml      run the campaign; the same command resumes it
  6. kettlefield compare record.db      candidates side by side
  7. kettlefield trials record.db       what each model wrote, and why it failed
     kettlefield mark record.db --by NAME   judge pages and explanations by eye, blind
     kettlefield judge plan.toml        let a second model judge them, and see how far to trust it
  8. kettlefield decide record.db       criteria one by one, and the verdict; --by NAME signs it
     kettlefield report record.db -o FOLDER   one page to read and to keep
     kettlefield export record.db -o FOLDER   tables, CI results, bill of materials

`kettlefield demo` runs all of it on made-up models. Exit codes: 0 done or approved, 1 rejected or a faulty
suite, 2 bad input, 3 something could not be measured, 4 undecided, 130 interrupted.
"""
