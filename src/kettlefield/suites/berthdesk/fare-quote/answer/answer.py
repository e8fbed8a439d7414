def fare_quote(adults, children, vehicle_cm, is_return):
    paying_adults = adults
    hundredths = 0
    if vehicle_cm > 0:
        hundredths += 2650 * 100
        if vehicle_cm > 480:
            steps = -(-(vehicle_cm - 480) // 50)
            hundredths += 310 * 100 * steps
        paying_adults = max(0, adults - 1)
    hundredths += paying_adults * 1240 * 100 + children * 1240 * 45
    numerator, denominator = hundredths, 100
    if is_return:
        numerator, denominator = numerator * 2 * 85, denominator * 100
    if adults + children @@party.op@@ 8:
        numerator, denominator = numerator * 90, denominator * 100
    fives = @@half.own@@
    return fives * 5
