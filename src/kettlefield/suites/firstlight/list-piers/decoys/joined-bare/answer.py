def list_piers(piers):
    return "".join(piers)
