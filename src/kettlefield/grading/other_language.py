"""Is what does not build as asked really code of another language? Told by what parses, not by its looks."""

import ast
import re

from kettlefield.core.extraction.choosing import guess_language
from kettlefield.core.extraction.code_text import parse
from kettlefield.core.extraction.wanted import Answer
from kettlefield.core.languages import LANGUAGES
from kettlefield.rig.toolchains import Toolchain, find_toolchain
from kettlefield.sandbox.builds import Built, build_answer
from kettlefield.sandbox.isolation import Isolation
from kettlefield.sandbox.job import Job, RunLimits
from kettlefield.sandbox.runner import run_job

# prose parses as no language, but a word or two can: what counts must be more than that
MIN_STATEMENTS = 2
_COMPILED = frozenset({"c", "cpp", "rust", "java", "go"})
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


def is_other_language(answer: Answer, wanted: str, isolation: Isolation) -> bool:
    """Whether the first file of an answer parses as a language other than the wanted one.

    Python is parsed here, JavaScript by its own interpreter in isolation; a compiled language that the text
    looks like is tried on its compiler.
    """
    if not answer.files:
        return False
    text = answer.files[0].text
    if wanted != "python" and _is_python(text):
        return True
    if wanted != "javascript" and _is_javascript(text, isolation):
        return True
    guess = guess_language(text)
    return guess in _COMPILED and guess != wanted and _builds(text, str(guess), isolation)


def _is_python(text: str) -> bool:
    tree = parse(text)
    if not isinstance(tree, ast.Module):
        return False
    body = tree.body
    return any(isinstance(node, ast.FunctionDef | ast.ClassDef) for node in body) or (
        sum(isinstance(node, _COUNTING) for node in body) >= MIN_STATEMENTS
    )


def _builds(text: str, language: str, isolation: Isolation) -> bool:
    toolchain = find_toolchain(language)
    public = re.search(r"\bpublic\s++class\s++(\w{1,100})", text)
    name = f"{public[1]}.java" if language == "java" and public else f"answer{LANGUAGES[language].suffix}"
    return isinstance(toolchain, Toolchain) and isinstance(
        build_answer(toolchain, {name: text}, name, isolation), Built
    )


def _is_javascript(text: str, isolation: Isolation) -> bool:
    toolchain = find_toolchain("javascript")
    if not isinstance(toolchain, Toolchain) or not any(ch in text for ch in "{;"):
        return False
    for name in ("answer.cjs", "answer.mjs"):
        job = Job(
            argv=(toolchain.program, "--check", name),
            limits=_LIMITS,
            files={name: text},
            mounts=toolchain.mounts,
            bound_address_space=False,
            result_fd=False,
        )
        if run_job(job, isolation).exit_status == 0:
            return True
    return False
