def pilot_fee(metres, night):
    """Fee of a pilot in pence: @@fee@@ for each @@part.full@@10 metres of the ship@@part.begun@@, half as much again at night.

    metres -- length of the ship, a whole number above 0
    night -- True or False
    """
    fee = (metres + @@part.add@@) // 10 * @@fee@@
    if night:
        fee += fee // 2
    return fee
