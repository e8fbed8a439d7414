def mend_parcels(parcels):
    numbers = [row["weight"] for row in parcels]
    return [max(number, @@n@@) for number in numbers]
