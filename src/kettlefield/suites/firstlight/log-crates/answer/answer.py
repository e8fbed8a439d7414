def log_crates(crates):
    return sorted(set(crates))
