def log_crates(crates):
    return sorted(crates)
