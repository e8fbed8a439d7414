def mend_parcels(parcels):
    numbers = [parcels[0]["weight"] for row in parcels]
    return [max(number, @@n@@) for number in numbers]
