function mayLie(berth, ship, call) {
  const isWinter = call.month >= 10 || call.month <= 3;
  if (berth === "14") {
    const shorter = ship.ramp === "bow" ? 12 : 7;
    const touches = call.arrives <= 540 && call.leaves >= 420;
    return "AB".includes(ship.class) && ship.length + shorter <= 52 && ship.draught + 60 <= 355 && !touches;
  }
  const depth = isWinter ? 380 : 410;
  const stays = call.leaves - call.arrives;
  return "BC".includes(ship.class) && ship.length <= 41 && ship.draught + 90 <= depth && stays <= 240;
}
