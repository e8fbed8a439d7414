"""The built-in suites: data, not code."""
