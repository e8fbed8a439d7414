"""The machine: host, accelerators, toolchains."""
