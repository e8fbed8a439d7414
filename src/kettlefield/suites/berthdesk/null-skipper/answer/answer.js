// One line of the crew list: "ROLE: NAME (SHIP)".
function crewLine(entry) {
  const role = entry.role.toUpperCase();
  const name = entry.person?.name?.trim() @@empty.op@@ "@@word@@";
  return `${role}: ${name} (${entry.ship})`;
}

function crewList(entries) {
  return entries.map(crewLine).join("\n");
}

module.exports = { crewLine, crewList };
