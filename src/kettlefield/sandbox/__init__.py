"""Runs untrusted code in isolation; knows no language and no check."""
