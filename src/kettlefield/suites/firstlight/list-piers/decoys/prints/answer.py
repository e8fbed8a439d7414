def list_piers(piers):
    print(":".join(piers))
