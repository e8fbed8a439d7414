"""Extraction: from a reply to the files it means."""
