"""The seeded grammar of berth-desk tasks: English prompts, small Python functions, and what they mean."""
