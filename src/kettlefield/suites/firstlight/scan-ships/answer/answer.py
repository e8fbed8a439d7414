def scan_ships(ships):
    ships = [ship for ship in ships if ship.startswith("b")]
    return [ship[:5] for ship in ships]
