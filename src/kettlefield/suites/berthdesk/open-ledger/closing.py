"""Every file that append_fares opens is closed whatever happens: by `with`, or in a `finally`."""

import ast

tree = ast.parse(open("answer/answer.py", encoding="utf-8").read())
functions = [node for node in ast.walk(tree) if isinstance(node, ast.FunctionDef) and node.name != "main"]


def opens(node):
    name = node.func.id if isinstance(node.func, ast.Name) else getattr(node.func, "attr", "")
    return name == "open"


def calls(node):
    return [one for one in ast.walk(node) if isinstance(one, ast.Call)]


def names_closed(function):
    closed = set()
    for node in ast.walk(function):
        if isinstance(node, ast.Try):
            for call in (call for last in node.finalbody for call in calls(last)):
                if getattr(call.func, "attr", "") == "close" and isinstance(call.func.value, ast.Name):
                    closed.add(call.func.value.id)
    return closed


bad = []
for function in functions:
    safe = set()
    for node in ast.walk(function):
        if isinstance(node, ast.With | ast.AsyncWith):
            safe |= {id(call) for item in node.items for call in calls(item.context_expr)}
        if isinstance(node, ast.Call) and getattr(node.func, "attr", "") == "enter_context":
            safe |= {id(call) for part in node.args for call in calls(part)}
    closed = names_closed(function)
    for node in ast.walk(function):
        targets = node.targets if isinstance(node, ast.Assign) else [node.target] if isinstance(node, ast.AnnAssign) else []
        if targets and all(isinstance(one, ast.Name) and one.id in closed for one in targets):
            safe |= {id(call) for call in calls(node)}
    bad += [call.lineno for call in calls(function) if opens(call) and id(call) not in safe]
print("TAP version 14")
print("1..1")
print(f"not ok 1 - the file opened in line {bad[0]} is not closed whatever happens" if bad else "ok 1 - closed whatever happens")
