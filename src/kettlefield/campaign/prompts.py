"""What is really sent for an exercise: its prompt, the environment it will run in, the form of the answer."""

from kettlefield.campaign.tables import PromptingTable
from kettlefield.core.languages import LANGUAGES
from kettlefield.rig.toolchains import Toolchain, find_toolchain
from kettlefield.server.exchange import Ask
from kettlefield.suite.format import Exercise

_END_MARKS = ("<|endoftext|>", "</s>", "<|end|>")  # written out where a server does not stop at them
_RUNTIME = {
    "python": "Python {version}, standard library only",
    "javascript": "Node.js {version}, no packages",
    "c": "GCC {version}, C17, standard library only",
    "cpp": "G++ {version}, C++20, standard library only",
    "rust": "Rust {version}, edition 2021, standard library only",
    "java": "Java {version}, standard library only",
    "go": "Go {version}, standard library only",
    "bash": "Bash {version}, with the usual Unix tools",
    "sql": "SQLite {version}",
}


def render_exercise(exercise: Exercise, prompting: PromptingTable) -> Ask:
    """What puts an exercise to a model in the plan's style; the sampling is added by whoever sends it.

    A model that only continues gets the opening of a code block and fills it; one that fills gaps gets the
    block's two ends.
    """
    parts = [exercise.prompt.strip()]
    toolchain = find_toolchain(exercise.spec.language)
    if prompting.environment_line and isinstance(toolchain, Toolchain):
        parts.append(f"Environment: {_RUNTIME[toolchain.language].format(version=toolchain.version)}.")
    title = LANGUAGES[exercise.spec.language].title
    if prompting.style == "chat":
        parts.append(f"Reply with the complete {title} code in one code block.")
        return render_text("\n\n".join(parts), prompting)
    opening = "\n\n".join([*parts, f"The complete {title} code:", f"```{exercise.spec.language}\n"])
    return render_text(opening, prompting, suffix="\n```\n")


def render_text(text: str, prompting: PromptingTable, *, suffix: str = "\n") -> Ask:
    """A text in the plan's style; ``suffix`` is what follows the gap for a model that fills gaps."""
    if prompting.style == "chat":
        user = {"role": "user", "content": text}
        system = {"role": "system", "content": prompting.system}
        return Ask(messages=(system, user) if prompting.system else (user,), sampling={})
    whole = f"{prompting.system}\n\n{text}" if prompting.system else text
    if prompting.style == "infill":
        prefix, after, middle = prompting.infill_markers
        whole = f"{prefix}{whole}{after}{suffix}{middle}"
    return Ask(messages=({"role": "prompt", "content": whole},), sampling={}, is_chat=False)


def reply_text(reply: str, exercise: Exercise, prompting: PromptingTable) -> str:
    """A reply as extraction reads it: what continues an opened code block gets its opening back.

    A model that only continues may run on past its own end-of-text mark, or repeat the marks of the gap; the
    reply ends at the first of them.
    """
    if prompting.style == "chat":
        return reply
    ends = [at for mark in (*prompting.infill_markers, *_END_MARKS) if (at := reply.find(mark)) >= 0]
    return f"```{exercise.spec.language}\n{reply[: min(ends)] if ends else reply}"
