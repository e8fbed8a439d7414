import copy
import re

_MARK = re.compile(r"\$\$|\$\{([^}]*)\}")


def settings(layers):
    joined = {}
    for layer in layers:
        join(joined, copy.deepcopy(layer))
    return Filler(joined).fill(joined, ())


def join(into, layer):
    for key in sorted(layer, key=lambda key: key.endswith("+")):
        value = layer[key]
        if key.endswith("+"):
            name = key[:-1]
            held = into.get(name)
            into[name] = [*held, *value] if isinstance(held, list) else value
        elif value is None:
            into.pop(key, None)
        elif isinstance(value, dict):
            if not isinstance(into.get(key), dict):
                into[key] = {}
            join(into[key], value)
        else:
            into[key] = value


class Filler:
    def __init__(self, root):
        self.root = root

    def fill(self, value, path):
        if isinstance(value, dict):
            return {key: self.fill(held, path) for key, held in value.items()}
        if isinstance(value, list):
            return [self.fill(held, path) for held in value]
        return self.text(value, path) if isinstance(value, str) else value

    def text(self, text, path):
        return _MARK.sub(lambda mark: "$" if mark[1] is None else self.look_up(mark[1], path), text)

    def look_up(self, name, path):
        if name in path:
            raise ValueError(f"{name} leads back to itself")
        value = self.root
        for part in name.split("."):
            if not isinstance(value, dict):
                raise KeyError(name)
            value = value[part]
        if isinstance(value, bool) or not isinstance(value, (str, int)):
            raise KeyError(name)
        return self.text(value, (*path, name)) if isinstance(value, str) else str(value)
