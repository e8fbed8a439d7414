"""The conductor that carries a plan out, resumable at any point."""
