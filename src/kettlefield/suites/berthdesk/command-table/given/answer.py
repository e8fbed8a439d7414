
def handle(state, line):
    words = line.split()
    command = words[0] if words else ""
    if command == "arrive":
        state[words[1]] = words[2]
        return f"{words[1]} at {words[2]}"
    elif command == "leave":
        if words[1] not in state:
            return f"{words[1]} is not here"
        del state[words[1]]
        return f"{words[1]} left"
    elif command == "move":
        if words[1] not in state:
            return f"{words[1]} is not here"
        old = state[words[1]]
        state[words[1]] = words[2]
        return f"{words[1]} from {old} to {words[2]}"
    elif command == "where":
        return state.get(words[1], "nowhere")
    elif command == "count":
        return str(len(state))
    elif command == "":
        return ""
    else:
        return f"unknown: {command}"


def run(lines):
    state = {}
    return [handle(state, line) for line in lines]
