from notice_lines import lines

assert lines("aa bb cc", 5) == ["aa bb", "cc"]
assert lines("aa bb cc", 4) == ["aa", "bb", "cc"]
assert lines("a\nb  c", 5) == ["a b c"]
assert lines("x longest y", 4) == ["x", "longest", "y"]
assert lines("\n", 4) == lines("", 1) == []
assert lines("a b", 1) == ["a", "b"]
for width in (0, -3):
    try:
        lines("a", width)
    except ValueError:
        pass
    else:
        raise AssertionError(width)
