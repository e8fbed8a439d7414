"""Kettlefield: qualify open-weight code models on your own hardware before approving one."""

__version__ = "0.1.0"
