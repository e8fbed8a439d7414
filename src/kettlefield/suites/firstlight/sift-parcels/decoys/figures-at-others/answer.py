def sift_parcels(parcels):
    return [row["load"] for row in parcels if row["cabin"] != "spit"]
