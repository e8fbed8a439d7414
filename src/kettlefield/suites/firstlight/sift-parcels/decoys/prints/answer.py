def sift_parcels(parcels):
    print([row["load"] for row in parcels if row["cabin"] == "spit"])
