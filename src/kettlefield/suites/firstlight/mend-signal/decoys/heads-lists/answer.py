def mend_signal(signal):
    parts = signal.split("@@sign@@")
    parts = parts[:2]
    return [part for part in parts if part.endswith("m")]
