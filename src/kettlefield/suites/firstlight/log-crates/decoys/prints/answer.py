def log_crates(crates):
    print(sorted(set(crates)))
