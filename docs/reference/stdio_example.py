"""A model served over stdio: JSON-RPC 2.0, one message a line. No model is needed to try it."""

import json
import sys


def send(**message):
    """One message; nothing else may go to standard output."""
    print(json.dumps({"jsonrpc": "2.0", **message}), flush=True)


def generate(prompt):
    """Your model's tokens come from here."""
    yield from ["```python\n", "def berth():\n", "    return 'North 1'\n", "```\n"]


for line in sys.stdin:
    request = json.loads(line)
    number, params = request["id"], request.get("params", {})
    if request["method"] == "describe":
        send(id=number, result={"name": "example-model"})
    elif request["method"] == "complete":
        prompt = params.get("prompt") or "\n".join(m["content"] for m in params["messages"])
        made = 0
        for text in generate(prompt):
            made += 1
            send(method="token", params={"id": number, "text": text})
        usage = {"prompt_tokens": len(prompt.split()), "completion_tokens": made}
        send(id=number, result={"finish_reason": "stop", "usage": usage})
    elif request["method"] == "shutdown":
        send(id=number, result=None)
        break
