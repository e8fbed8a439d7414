WEEK_STEPS = 60480


def tide_readings(frame):
    data = bytes.fromhex(frame)
    is_urgent = data[5] >= 128
    payload = data[6 : 6 + 2 * (data[5] & 127)]
    newest = payload[0] | payload[1] << 8
    if newest >= WEEK_STEPS:
        return None
    count = payload[2]
    apart = 6 if is_urgent else 60
    readings = []
    for number in range(count):
        raw = payload[3 + 2 * number] | payload[4 + 2 * number] << 8
        step = (newest - apart * (count - 1 - number)) % WEEK_STEPS
        readings.append([step, _height(raw)])
    return readings


def _height(raw):
    if raw == 0xFFFF:
        return None
    if raw == 0xFFFE:
        return "ice"
    return (raw - 4000) / 2
