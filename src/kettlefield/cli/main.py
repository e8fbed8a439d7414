# PYTHON_ARGCOMPLETE_OK
"""The program: arguments to a command's handler, errors to one line and an exit code."""

from __future__ import annotations

import os
import sys

from kettlefield.cli.commands import ExitCode
from kettlefield.cli.parsing import build_parser, complete

TYPE_CHECKING = False  # as typing has it: importing that takes half the time of `--help`
if TYPE_CHECKING:
    from collections.abc import Sequence

    from kettlefield.core.errors import KettlefieldError


def main(argv: Sequence[str] | None = None) -> int:
    """Run one command.

    Returns
    -------
    int
        An ``ExitCode``.
    """
    words = sys.argv[1:] if argv is None else list(argv)
    parser = build_parser(words, whole="_ARGCOMPLETE" in os.environ)
    if "_ARGCOMPLETE" in os.environ:
        complete(parser)
    args = parser.parse_args(words)
    if args.command is None:
        parser.print_help()
        return ExitCode.DONE
    from kettlefield.core.errors import KettlefieldError  # noqa: PLC0415 - `--help` is to be quick

    _set_up_log(args.verbose)
    try:
        return int(args.run(args))
    except KettlefieldError as err:
        _log_end()
        return _report(err, as_json=getattr(args, "json", False))
    except KeyboardInterrupt:
        print(
            "kettlefield: interrupted; every finished trial is kept, the same command resumes",
            file=sys.stderr,
        )
        return ExitCode.INTERRUPTED


def _set_up_log(verbose: int) -> None:
    import logging  # noqa: PLC0415

    level = (logging.WARNING, logging.INFO, logging.DEBUG)[min(verbose, 2)]
    logging.basicConfig(level=level, format="%(name)s: %(message)s")


def _log_end() -> None:
    import logging  # noqa: PLC0415

    logging.getLogger(__name__).debug("stopped", exc_info=True)


def _report(err: KettlefieldError, *, as_json: bool) -> ExitCode:
    import json  # noqa: PLC0415

    from kettlefield.cli.commands import exit_code_for  # noqa: PLC0415
    from kettlefield.core.plaintext import visible  # noqa: PLC0415

    if as_json:
        print(json.dumps({"error": {"what": err.what, "where": err.where, "hint": err.hint}}))
    print(f"kettlefield: {visible(str(err), keep_lines=False)}", file=sys.stderr)
    return exit_code_for(err)


def run() -> None:
    """The console script."""
    try:
        code = main()
        sys.stdout.flush()
    except KeyboardInterrupt:  # while the command was still being loaded
        print("kettlefield: interrupted", file=sys.stderr)
        code = ExitCode.INTERRUPTED
    except BrokenPipeError:
        # whoever read us has seen enough (`| head`); closing stdout again must not complain either
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        code = 0
    sys.exit(code)
