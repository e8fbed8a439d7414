"""Patterns that several languages share."""

import re

# an unclosed string or comment runs to the end, or to the end of its line
C_LIKE = re.compile(
    r"//[^\n]*|/\*.*?(?:\*/|\Z)|\"(?:\\.|[^\"\\\n])*\"?|`(?:\\.|[^`\\])*`?|'(?:\\.|[^'\\\n])*'", re.DOTALL
)
C_COMMENTS = ("//", "/*")
C_UNITS = (
    r"^(?!return\b|else\b|typedef\b)[A-Za-z_][\w \t*:<>,&]{0,200}?\b(\w+)[ \t]*\([^;{}()]{0,400}\)\s{0,20}\{"
    r"|^(?:typedef[ \t]+)?(?:struct|union|enum)[ \t]+(\w+)[ \t]*\{|^#[ \t]*define[ \t]+(\w+)"
)
C_VALUES = re.compile(
    r"^(?:static[ \t]+|const[ \t]+)+[\w \t*]{1,100}?\b(\w+)[ \t]*(?:\[[^\]\n]{0,40}\])?[ \t]*=", re.MULTILINE
)
C_MAIN = re.compile(r"\bmain\s{0,20}\(")
NO_HEADER = re.compile(r"fatal error: \S+: No such file")
C_SANITISE = "-g -fsanitize=address,undefined -fno-sanitize-recover=all"
# what a program built with GCC's sanitisers says before it ends
C_SANITISERS = re.compile(r"ERROR: (?:Address|Leak)Sanitizer: [^\n]*|runtime error: [^\n]*")
