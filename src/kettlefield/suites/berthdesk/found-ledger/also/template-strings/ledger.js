"use strict";

const finds = [
  { item: "Grey umbrella", ship: "Teal", day: "2031-03-02", state: "kept" },
  { item: "Red scarf", ship: "Dunlin", day: "2031-03-02", state: "fetched" },
  { item: "Child's boot", ship: "Teal", day: "2031-03-04", state: "kept" },
  { item: "Chart of Long Spit", ship: "Avocet", day: "2031-03-05", state: "kept" },
  { item: "Umbrella, striped", ship: "Dunlin", day: "2031-03-07", state: "kept" },
  { item: "Tin of red paint", ship: "Teal", day: "2031-03-09", state: "fetched" },
];

const $ = (id) => document.getElementById(id);

function update() {
  const needle = $("search").value.trim().toLowerCase();
  let shown = finds;
  if (needle) shown = shown.filter((find) => find.item.toLowerCase().indexOf(needle) !== -1);
  if ($("ship").selectedIndex > 0) shown = shown.filter((find) => find.ship === $("ship").value);
  if ($("kept").checked) shown = shown.filter((find) => find.state !== "fetched");
  $("finds").innerHTML = shown
    .map((find) => `<li class="${find.state}"><b class="item">${find.item}</b>, ${find.ship}, ${find.day}, ${find.state}</li>`)
    .join("");
  $("count").textContent = { 0: "No finds", 1: "1 find" }[shown.length] || shown.length + " finds";
}

$("search").addEventListener("input", update);
$("ship").addEventListener("change", update);
$("kept").addEventListener("change", update);
$("clear").addEventListener("click", () => {
  $("search").value = "";
  $("ship").selectedIndex = 0;
  $("kept").checked = false;
  update();
  $("search").focus();
});
update();
