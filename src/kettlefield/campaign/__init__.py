"""The plan and the conductor that carries it out."""
