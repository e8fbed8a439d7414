"""Is what does not build as asked really code of another language? Decided by what parses, not by its looks."""

import ast

from kettlefield.core.extraction.code_text import parse
from kettlefield.core.extraction.wanted import Answer
from kettlefield.grading.builds import Built, build_answer
from kettlefield.grading.kept import Kept
from kettlefield.languages.all_languages import LANGUAGES, find_toolchain
from kettlefield.languages.language import Language, Toolchain
from kettlefield.sandbox.job import Job, RunLimits
from kettlefield.sandbox.runner import Sandbox

# prose parses as no language, but a word or two can: what counts must be more than that
MIN_STATEMENTS = 2
_LIMITS = RunLimits(wall_s=10, cpu_s=5, memory_bytes=2**29, output_bytes=2**16)
_COUNTING = (
    ast.FunctionDef,
    ast.AsyncFunctionDef,
    ast.ClassDef,
    ast.Import,
    ast.ImportFrom,
    ast.Assign,
    ast.For,
    ast.If,
)


def is_other_language(answer: Answer, wanted: str, sandbox: Sandbox, kept: Kept) -> bool:
    """Whether the first file of an answer parses as a language other than the wanted one.

    Python is parsed here; a language whose toolchain can parse a file and no more is asked in isolation; a compiled
    language that the text looks like is tried on its compiler.
    """
    if not answer.files:
        return False
    text = answer.text
    for language in LANGUAGES.with_toolchain:
        if language.name == wanted:
            continue
        if language.structure == "tree" and _is_python(text):
            return True
        if language.parse_check and _parses(text, language, sandbox):
            return True
    guess = LANGUAGES.guess(text)
    return guess is not None and guess != wanted and _builds(text, LANGUAGES[guess], sandbox, kept)


def _is_python(text: str) -> bool:
    tree = parse(text)
    if not isinstance(tree, ast.Module):
        return False
    body = tree.body
    return any(isinstance(node, ast.FunctionDef | ast.ClassDef) for node in body) or (
        sum(isinstance(node, _COUNTING) for node in body) >= MIN_STATEMENTS
    )


def _builds(text: str, language: Language, sandbox: Sandbox, kept: Kept) -> bool:
    """Whether a compiler makes a program of it; what is only parsed or run proves too little."""
    if language.recipe is None or language.recipe.keeps is None:
        return False
    toolchain, name = find_toolchain(language.name), language.file_name(text)
    return isinstance(toolchain, Toolchain) and isinstance(
        build_answer(toolchain, {name: text}, name, sandbox, kept), Built
    )


def _parses(text: str, language: Language, sandbox: Sandbox) -> bool:
    toolchain = find_toolchain(language.name)
    if not isinstance(toolchain, Toolchain) or not any(ch in text for ch in "{;"):
        return False
    for name in language.parse_names:
        job = Job(
            argv=(toolchain.program, *language.parse_check, name),
            limits=_LIMITS,
            files={name: text},
            mounts=toolchain.mounts,
            bound_address_space=False,
            result_fd=False,
        )
        if sandbox.run(job).exit_status == 0:
            return True
    return False
