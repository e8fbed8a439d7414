def mend_parcels(parcels):
    numbers = [row["weight"] for row in parcels]
    return [min(number, @@n@@) for number in numbers]
