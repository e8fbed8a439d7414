const articles = [...document.querySelectorAll("article")];
const shelf = "kettlefield marks: " + facts.marker + ": " + (articles[0]?.dataset.key ?? "");
let here = 0;

const valueOf = (article) => article.querySelector("input[type=radio]:checked")?.value ?? null;
const noteOf = (article) => article.querySelector(".note input");

function keep() {
  const held = {};
  for (const article of articles) {
    const value = valueOf(article), note = noteOf(article).value;
    if (value !== null || note) held[article.dataset.key] = [value, note];
  }
  try { localStorage.setItem(shelf, JSON.stringify(held)); } catch { /* a browser that keeps nothing: save often */ }
}

function recall() {
  let held = {};
  try { held = JSON.parse(localStorage.getItem(shelf)) ?? {}; } catch { return; }
  for (const article of articles) {
    const [value, note] = held[article.dataset.key] ?? [null, ""];
    const radio = article.querySelector(`input[type=radio][value="${Number(value)}"]`);
    if (value !== null && radio) radio.checked = true;
    if (note) noteOf(article).value = note;
  }
}

function count() {
  for (const article of articles) article.classList.toggle("marked", valueOf(article) !== null);
  const done = articles.filter((article) => valueOf(article) !== null).length;
  document.getElementById("done").textContent = `${done} of ${articles.length} replies are marked`;
}

function go(to) {
  if (!articles.length) return;
  here = Math.max(0, Math.min(to, articles.length - 1));
  articles.forEach((article, at) => article.classList.toggle("here", at === here));
  articles[here].focus({ preventScroll: true });
  articles[here].scrollIntoView({ block: "start" });
}

document.addEventListener("change", () => { keep(); count(); });
document.addEventListener("input", keep);
document.addEventListener("focusin", (event) => {
  const at = articles.indexOf(event.target.closest?.("article"));
  if (at < 0) return;
  here = at;
  articles.forEach((article, place) => article.classList.toggle("here", place === here));
});
document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.altKey || event.metaKey || event.target.matches("input[type=text]")) return;
  if (/^[0-4]$/.test(event.key) && articles.length) {
    articles[here].querySelector(`input[type=radio][value="${event.key}"]`).checked = true;
    keep();
    count();
  } else if (event.key === "n") go(here + 1);
  else if (event.key === "p") go(here - 1);
});
document.getElementById("save").addEventListener("click", () => {
  const marks = articles.filter((article) => valueOf(article) !== null).map((article) => {
    const [item, showing] = article.dataset.key.split(".");
    return { item, showing: Number(showing), value: Number(valueOf(article)), note: noteOf(article).value };
  });
  const file = new Blob([JSON.stringify({ ...facts, marks }, null, 1)], { type: "application/json" });
  const link = document.createElement("a");
  link.href = URL.createObjectURL(file);
  link.download = "marks.json";
  link.click();
});
recall();
count();
articles[0]?.classList.add("here");
