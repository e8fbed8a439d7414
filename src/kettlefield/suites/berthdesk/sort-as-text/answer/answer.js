// Ships by the number of their berth, then by name.
function byBerth(ships) {
  return [...ships].sort((a, b) => a.berth - b.berth || (a.name < b.name ? -1 : Number(a.name > b.name)));
}

function report(ships) {
  return byBerth(ships).map((ship) => `${ship.berth} ${ship.name}`);
}

module.exports = { byBerth, report };
