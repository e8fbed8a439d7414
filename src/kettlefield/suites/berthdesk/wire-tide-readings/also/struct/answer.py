import struct


def tide_readings(frame):
    data = bytes.fromhex(frame)
    urgent, pairs = divmod(data[5], 128)
    payload = data[6:][: pairs * 2]
    time, count = struct.unpack_from("<HB", payload)
    if time > 60479:
        return None
    heights = struct.unpack_from(f"<{count}H", payload, 3)
    gap = [60, 6][urgent]
    special = {65535: None, 65534: "ice"}
    result = []
    for back, value in zip(range(count - 1, -1, -1), heights):
        step = time - gap * back
        if step < 0:
            step += 60480
        result.append([step, special[value] if value in special else value / 2 - 2000])
    return result
