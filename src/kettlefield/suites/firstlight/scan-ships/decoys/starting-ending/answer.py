def scan_ships(ships):
    ships = [ship for ship in ships if ship.endswith("b")]
    return [ship[:5] for ship in ships]
