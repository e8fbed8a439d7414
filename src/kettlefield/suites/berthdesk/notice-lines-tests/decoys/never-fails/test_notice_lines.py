from notice_lines import lines

print("ok" if lines("aa bb cc", 5) == ["aa bb", "cc"] else "wrong")
