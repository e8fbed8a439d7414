"""The plan's language: read, check, expand, draft; its criteria."""
