"""The languages an exercise may ask for: names, aliases in code fences, file suffixes."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class Language:
    """One programming language as replies name it."""

    name: str  # as exercises write it
    title: str  # as prompts and tables write it
    suffix: str
    aliases: frozenset[str]  # lower case, as code fences name it
    runs: bool = True  # a program can be written in it alone


def _language(name: str, title: str, suffix: str, *aliases: str, runs: bool = True) -> Language:
    return Language(name=name, title=title, suffix=suffix, aliases=frozenset({name, suffix[1:], *aliases}), runs=runs)


LANGUAGES = {
    language.name: language
    for language in (
        _language("python", "Python", ".py", "python3", "py3", "pycon", "python-repl"),
        _language("javascript", "JavaScript", ".js", "node", "nodejs", "mjs", "cjs", "ecmascript"),
        _language("c", "C", ".c", "h", "c11", "c17", "ansi-c"),
        _language("cpp", "C++", ".cpp", "c++", "cc", "cxx", "hpp", "c++17", "c++20"),
        _language("rust", "Rust", ".rs"),
        _language("java", "Java", ".java"),
        _language("go", "Go", ".go", "golang"),
        _language("bash", "Bash", ".sh", "shell", "zsh", "shellscript"),
        _language("sql", "SQL", ".sql", "sqlite", "sqlite3"),
        _language("html", "HTML", ".html", "htm", "xhtml", "html5", runs=False),
        _language("css", "CSS", ".css", "css3", runs=False),
    )
}

# what an exercise says that leaves the choice of language to the model, and one that wants no code but words
ANY, TEXT = "any", "text"
# what a page is written in: it is opened in a browser, not run
PAGE = "html"
PROGRAM_LANGUAGES = tuple(language.name for language in LANGUAGES.values() if language.runs)

# fences that hold no program whatever the exercise asks: commands, output, data
NO_PROGRAM = frozenset(
    [
        "text",
        "txt",
        "plain",
        "plaintext",
        "output",
        "console",
        "terminal",
        "shell-session",
        "log",
        "json",
        "yaml",
        "toml",
        "ini",
        "diff",
        "http",
        "none",
    ]
)


def language_of_alias(alias: str) -> str | None:
    """The language a code fence names, or None when it names none that we know."""
    lowered = alias.lower()
    return next((lang.name for lang in LANGUAGES.values() if lowered in lang.aliases), None)


def language_of_suffix(name: str) -> str | None:
    """The language that a file name's suffix stands for, or None."""
    suffix = f".{name.rsplit('.', 1)[-1].lower()}" if "." in name else ""
    return next((lang.name for lang in LANGUAGES.values() if lang.suffix == suffix), None)
