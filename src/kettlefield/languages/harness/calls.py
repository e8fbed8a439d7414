"""Runs inside the isolation: calls the answer's function and frames each result on a private descriptor.

Standard input holds {"nonce", "file", "function", "object", "cases": [{"args": [...], "steps": [...]}, ...]};
expected values never come here. With "object" the function is a class, and the steps are its methods' calls.
One line a case goes out: the nonce, a space, a JSON object.
"""

import errno
import json
import os
import sys

MAX_DEPTH = 150
HERE = os.getcwd()


def plain(value, depth=0):
    """The value as plain JSON data, read through the base types so that no override is trusted."""
    if depth > MAX_DEPTH:
        return {"$object": "nested too deeply"}
    kind = type(value)
    if value is None or kind is bool or kind is str:
        return value
    if isinstance(value, int):
        return int.__index__(value)
    if isinstance(value, float):
        number = float.__float__(value)
        return number if number - number == 0 else {"$number": repr(number)}
    if isinstance(value, str):
        return str.__str__(value)
    if isinstance(value, (list, tuple)):
        return [plain(item, depth + 1) for item in kind.__mro__[-2].__iter__(value)]
    if isinstance(value, dict):
        pairs = [(key, plain(item, depth + 1)) for key, item in dict.items(value)]
        if all(type(key) in (str, int, float) for key, _ in pairs):
            named = {name_of(key): item for key, item in pairs}
            if len(named) == len(pairs):  # 1 and "1" are two keys here, and one in JSON
                return named
        return {"$pairs": [[plain(key, depth + 1), item] for key, item in pairs]}
    return {"$object": kind.__name__}


def name_of(key):
    """A mapping's key as JSON has it; one that begins like our own marks is escaped."""
    if type(key) is not str:
        return json.dumps(key)
    return "$" + key if key.startswith("$") else key


def describe(error):
    """An exception as plain data, with the innermost line of the answer's own file."""
    line = getattr(error, "lineno", None) if isinstance(error, SyntaxError) else None
    trace = error.__traceback__
    while trace is not None:
        if trace.tb_frame.f_code.co_filename.startswith(HERE) and trace.tb_frame.f_code.co_filename != __file__:
            line = trace.tb_lineno
        trace = trace.tb_next
    try:
        message = str(error)
    except BaseException:
        message = "(its message cannot be read)"
    described = {"type": type(error).__name__, "message": message[:2000], "line": line}
    described["kinds"] = [kind.__name__ for kind in type(error).__mro__[:-2]]
    if isinstance(error, ModuleNotFoundError):
        described["module"] = str(error.name)
    if isinstance(error, MemoryError):
        described["limit"] = "memory"
    if isinstance(error, OSError) and error.errno in (errno.EFBIG, errno.ENOSPC):
        described["limit"] = "disk"
    if isinstance(error, (BlockingIOError,)) or "can't start new thread" in message:
        described["limit"] = "processes"
    return described


def given(value):
    """An argument as the answer gets it: JSON has no tuples, so a case writes one as {"$tuple": [...]}."""
    if isinstance(value, list):
        return [given(item) for item in value]
    if not isinstance(value, dict):
        return value
    if set(value) == {"$tuple"}:
        return tuple(given(item) for item in value["$tuple"])
    return {key: given(item) for key, item in value.items()}


def changed(args, before):
    """Which argument is no longer what it was, from 1; None when all are."""
    for number, (arg, then) in enumerate(zip(args, before, strict=True), 1):
        if json.dumps(plain(arg)) != then:
            return number
    return None


def state(args):
    """What arguments are before a call; only what can change is written down."""
    return [json.dumps(plain(arg)) if isinstance(arg, (list, dict)) else json.dumps(arg) for arg in args]


def call(function, args):
    """One call as a frame: what it gave or raised, and which argument it changed."""
    before = state(args)
    try:
        frame = {"value": plain(function(*args))}
    except BaseException as error:
        frame = {"error": describe(error)}
    return {**frame, "changed": changed(args, before)}


def use(made, args, before, steps):
    """The methods of one object, called in turn; at the end what the object was made from."""
    frames = []
    for step in steps:
        frames.append(call(lambda *words, name=step["call"]: getattr(made, name)(*words), given(step["args"])))
    return {"steps": frames, "changed": changed(args, before)}


def main():
    descriptor = int(sys.argv[1])
    job = json.loads(sys.stdin.buffer.read())
    null = os.open(os.devnull, os.O_RDONLY)
    os.dup2(null, 0)

    def send(record):
        data = f"{job['nonce']} {json.dumps(record)}\n".encode()
        while data:
            data = data[os.write(descriptor, data) :]

    path = os.path.join(HERE, job["file"])
    sys.path.insert(0, HERE)
    sys.path += filter(None, os.environ.pop("PACKAGES", "").split(":"))
    namespace = {"__name__": "answer", "__file__": path, "__builtins__": __builtins__}
    try:
        with open(path, encoding="utf-8") as source:
            code = compile(source.read(), path, "exec")
    except (SyntaxError, ValueError, RecursionError, MemoryError) as error:
        send({"build": describe(error)})
        return
    try:
        exec(code, namespace)
    except BaseException as error:
        send({"load": describe(error)})
        return
    function = namespace.get(job["function"])
    if not callable(function):
        send(
            {
                "build": {
                    "type": "NameError",
                    "message": f"no function {job['function']} is defined",
                    "line": None,
                }
            }
        )
        return
    for number, case in enumerate(job["cases"]):
        try:
            if not job["object"]:
                send({"case": number, **call(function, given(case["args"]))})
                continue
            args = given(case["args"])
            before = state(args)
            send({"case": number, **use(function(*args), args, before, case["steps"])})
        except BaseException as error:  # the object cannot be made, or what was given cannot be read or written
            send({"case": number, "error": describe(error)})
    send({"done": True})


main()
sys.stdout.flush()
os._exit(0)  # threads that the answer left behind do not hold the run up
