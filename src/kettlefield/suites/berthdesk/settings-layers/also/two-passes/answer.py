import re


def merged(low, high):
    result = dict(low)
    for key, value in high.items():
        if key[-1:] == "+":
            continue
        if value is None:
            result.pop(key, "")
        elif isinstance(value, dict):
            below = result.get(key)
            result[key] = merged(below if isinstance(below, dict) else {}, value)
        else:
            result[key] = value
    for key, value in high.items():
        if key[-1:] == "+":
            below = result.get(key[:-1])
            result[key[:-1]] = (below if isinstance(below, list) else []) + value
    return result


def settings(layers):
    whole = {}
    for layer in layers:
        whole = merged(whole, layer)

    def expand(text, open_names):
        out, at = "", 0
        while at < len(text):
            if text.startswith("$$", at):
                out, at = out + "$", at + 2
            elif text.startswith("${", at) and "}" in text[at:]:
                end = text.index("}", at)
                name = text[at + 2 : end]
                if name in open_names:
                    raise ValueError(name)
                here = whole
                for part in name.split("."):
                    if type(here) is not dict or part not in here:
                        raise KeyError(name)
                    here = here[part]
                if type(here) is int:
                    out += str(here)
                elif type(here) is str:
                    out += expand(here, open_names | {name})
                else:
                    raise KeyError(name)
                at = end + 1
            else:
                out, at = out + text[at], at + 1
        return out

    def walk(value):
        if isinstance(value, dict):
            return {k: walk(v) for k, v in value.items()}
        if isinstance(value, list):
            return [walk(v) for v in value]
        return expand(value, frozenset()) if isinstance(value, str) else value

    return walk(whole)
