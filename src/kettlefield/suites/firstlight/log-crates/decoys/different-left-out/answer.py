def log_crates(crates):
    return crates
