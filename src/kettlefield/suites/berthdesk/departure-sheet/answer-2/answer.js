function sheet(sailings) {
  const sorted = [...sailings].sort((a, b) => (a.time < b.time ? -1 : a.time > b.time ? 1 : 0));
  return sorted.map((s) => `${s.time} ${s.port}`).join("\n");
}
