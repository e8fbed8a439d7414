def scan_ships(ships):
    ships = [ship for ship in ships if "b" in ship]
    return [ship[:5] for ship in ships]
