"""Charts and pages: data frames and facts in, files out."""
