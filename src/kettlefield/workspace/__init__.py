"""Work inside a small repository through tools: the files, the tools, their calls, the conversation."""
