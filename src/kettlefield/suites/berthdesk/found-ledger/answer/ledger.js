const FINDS = [
  ["Grey umbrella", "Teal", "2031-03-02", "kept"],
  ["Red scarf", "Dunlin", "2031-03-02", "fetched"],
  ["Child's boot", "Teal", "2031-03-04", "kept"],
  ["Chart of Long Spit", "Avocet", "2031-03-05", "kept"],
  ["Umbrella, striped", "Dunlin", "2031-03-07", "kept"],
  ["Tin of red paint", "Teal", "2031-03-09", "fetched"],
];
const search = document.getElementById("search");
const ship = document.getElementById("ship");
const kept = document.getElementById("kept");

function shows([item, of, , state]) {
  return (
    item.toLowerCase().includes(search.value.trim().toLowerCase()) &&
    (ship.value === "All ships" || ship.value === of) &&
    (!kept.checked || state === "kept")
  );
}

function line([item, of, day, state]) {
  const entry = document.createElement("li");
  entry.className = state;
  for (const [text, name] of [[item, "item"], [of, "ship"], [day, "day"], [state, "state"]]) {
    const part = document.createElement("span");
    part.className = name;
    part.textContent = text;
    entry.append(part, " ");
  }
  return entry;
}

function draw() {
  const found = FINDS.filter(shows);
  document.getElementById("finds").replaceChildren(...found.map(line));
  const words = found.length === 0 ? "No finds" : found.length === 1 ? "1 find" : `${found.length} finds`;
  document.getElementById("count").textContent = words;
}

for (const field of [search, ship, kept]) field.addEventListener("input", draw);
document.getElementById("clear").addEventListener("click", () => {
  search.value = "";
  ship.value = "All ships";
  kept.checked = false;
  draw();
  search.focus();
});
draw();
