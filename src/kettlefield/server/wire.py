"""What goes over the wire: the chat-completions JSON, typed as far as we read it."""

from typing import Any

import msgspec


class Delta(msgspec.Struct, frozen=True):
    """A piece of a message; servers name the thinking field in two ways."""

    content: str | None = None
    reasoning_content: str | None = None
    reasoning: str | None = None


class Choice(msgspec.Struct, frozen=True):
    """One choice of a chunk, or of a whole response."""

    delta: Delta | None = None
    message: Delta | None = None
    text: str | None = None  # of the plain completions API
    finish_reason: str | None = None


class Usage(msgspec.Struct, frozen=True):
    """Token counts as the server gives them."""

    prompt_tokens: int | None = None
    completion_tokens: int | None = None


class Chunk(msgspec.Struct, frozen=True):
    """One event's data, or a response that was not streamed."""

    choices: tuple[Choice, ...] = ()
    usage: Usage | None = None
    error: Any = None

    @property
    def is_closing(self) -> bool:
        """Whether it ends the reply or counts it: where servers tell the settings that they took."""
        return self.usage is not None or any(choice.finish_reason for choice in self.choices)


class ModelEntry(msgspec.Struct, frozen=True):
    """One entry of the model list."""

    id: str = ""


class ModelList(msgspec.Struct, frozen=True):
    """``GET /v1/models``."""

    data: tuple[ModelEntry, ...] = ()


def error_words(error: Any) -> str:
    """An error object in words, whatever its form."""
    if isinstance(error, dict):
        return str(error.get("message") or error.get("detail") or error)
    return str(error)
