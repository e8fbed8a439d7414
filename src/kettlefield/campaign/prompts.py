"""What is really sent for an exercise: its prompt, the environment it will run in, the form of the answer."""

from kettlefield.campaign.tables import PromptingTable
from kettlefield.core.languages import LANGUAGES
from kettlefield.rig.toolchains import Toolchain, find_toolchain
from kettlefield.suite.format import Exercise

_RUNTIME = {
    "python": "Python {version}, standard library only",
    "javascript": "Node.js {version}, no packages",
}


def render_messages(exercise: Exercise, prompting: PromptingTable) -> tuple[dict[str, str], ...]:
    """The messages that put an exercise to a model."""
    parts = [exercise.prompt.strip()]
    toolchain = find_toolchain(exercise.spec.language)
    if prompting.environment_line and isinstance(toolchain, Toolchain):
        parts.append(f"Environment: {_RUNTIME[toolchain.language].format(version=toolchain.version)}.")
    parts.append(f"Reply with the complete {LANGUAGES[exercise.spec.language].title} code in one code block.")
    user = {"role": "user", "content": "\n\n".join(parts)}
    return ({"role": "system", "content": prompting.system}, user) if prompting.system else (user,)
