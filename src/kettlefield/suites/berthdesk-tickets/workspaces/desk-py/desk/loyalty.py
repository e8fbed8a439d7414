"""The loyalty card: ten stamps take five pounds off a fare."""

FULL_CARD = 10
OFF = 500


def stamps_off(fare, stamps):
    """The fare after the card; it is never below nothing."""
    return max(0, fare - OFF) if stamps >= FULL_CARD else fare
