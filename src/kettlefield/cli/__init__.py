"""Arguments in, tables out: the only room that knows argparse and rich."""
