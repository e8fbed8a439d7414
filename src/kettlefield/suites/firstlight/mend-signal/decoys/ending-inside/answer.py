def mend_signal(signal):
    parts = signal.split("@@sign@@")
    parts = [part[:2] for part in parts]
    return [part for part in parts if "m" in part]
