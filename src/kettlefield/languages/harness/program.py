"""Runs inside the isolation: the answer as a whole program, with build errors distinguished from its own."""

import os
import sys
import types


def main():
    descriptor, nonce, path = int(sys.argv[1]), sys.argv[2], os.path.join(os.getcwd(), sys.argv[3])

    def send(record):
        import json  # noqa: PLC0415 - loading it takes as long as starting does, and most answers do without

        os.write(descriptor, f"{nonce} {json.dumps(record)}\n".encode())

    try:
        with open(path, encoding="utf-8") as source:
            code = compile(source.read(), path, "exec")
    except (SyntaxError, ValueError, RecursionError, MemoryError) as error:
        line = getattr(error, "lineno", None)
        send({"build": {"type": type(error).__name__, "message": str(error)[:2000], "line": line}})
        return 1
    os.write(descriptor, f'{nonce} {{"built": true}}\n'.encode())
    sys.argv = [path, *sys.argv[4:]]
    sys.path.insert(0, os.getcwd())
    sys.path += filter(None, os.environ.pop("PACKAGES", "").split(":"))
    module = types.ModuleType("__main__")
    module.__file__ = path
    sys.modules["__main__"] = module
    try:
        exec(code, module.__dict__)
    except ModuleNotFoundError as error:
        send(
            {
                "load": {
                    "type": "ModuleNotFoundError",
                    "message": str(error),
                    "line": None,
                    "module": str(error.name),
                }
            }
        )
        raise
    except MemoryError as error:
        send({"load": {"type": "MemoryError", "message": str(error), "line": None, "limit": "memory"}})
        raise
    return 0


if main() != 0:
    raise SystemExit(1)
