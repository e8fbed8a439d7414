// Ships by the number of their berth, then by name.
function byBerth(ships) {
  return [...ships].sort((a, b) => a.berth - b.berth);
}

function report(ships) {
  return byBerth(ships).map((ship) => `${ship.berth} ${ship.name}`);
}

module.exports = { byBerth, report };
