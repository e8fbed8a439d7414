"""Code with its strings and comments blanked out, so that what stands in them is not taken for code."""

import re

# an unclosed string or comment runs to the end, or to the end of its line
_C_LIKE = re.compile(
    r"//[^\n]*|/\*.*?(?:\*/|\Z)|\"(?:\\.|[^\"\\\n])*\"?|`(?:\\.|[^`\\])*`?|'(?:\\.|[^'\\\n])*'", re.DOTALL
)
_SKIPPED = {
    **dict.fromkeys(("javascript", "c", "cpp", "java", "go"), _C_LIKE),
    # a quote in Rust also opens a lifetime, so only a whole character literal is skipped
    "rust": re.compile(
        r"//[^\n]*|/\*.*?(?:\*/|\Z)|r(?P<n>#*)\".*?(?:\"(?P=n)|\Z)|\"(?:\\.|[^\"\\])*\"?|'(?:\\.[^']*|[^'\\\n])'",
        re.DOTALL,
    ),
    "sql": re.compile(r"--[^\n]*|/\*.*?(?:\*/|\Z)|'(?:''|[^'])*'?|\"(?:\"\"|[^\"])*\"?", re.DOTALL),
    "python": re.compile(
        r"#[^\n]*|\"\"\".*?(?:\"\"\"|\Z)|'''.*?(?:'''|\Z)|\"(?:\\.|[^\"\\\n])*\"?|'(?:\\.|[^'\\\n])*'?", re.DOTALL
    ),
    # in double quotes a shell still calculates, so only what is quoted singly is skipped
    "bash": re.compile(r"(?:(?<=\s)|(?<=^))#[^\n]*|'[^']*'?", re.DOTALL | re.MULTILINE),
}


# how each language's comments begin; what else is skipped is a string
_COMMENTS = {
    **dict.fromkeys(("javascript", "c", "cpp", "java", "go", "rust"), ("//", "/*")),
    "sql": ("--", "/*"),
    **dict.fromkeys(("python", "bash"), ("#",)),
}


def without_comments(text: str, language: str) -> str:
    """The text with its comments turned to spaces; strings stay."""
    pattern, marks = _SKIPPED.get(language), _COMMENTS.get(language, ())
    if pattern is None:
        return text
    return pattern.sub(lambda match: " " * len(match[0]) if match[0].startswith(marks) else match[0], text)


def blanked(text: str, language: str) -> str:
    """The text with strings and comments turned to spaces, every other character in its place."""
    pattern = _SKIPPED.get(language)
    return text if pattern is None else pattern.sub(lambda found: " " * len(found[0]), text)
