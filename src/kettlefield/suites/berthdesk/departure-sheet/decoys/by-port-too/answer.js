function sheet(sailings) {
  const sorted = [...sailings].sort((a, b) => @@open.sign@@a.time.localeCompare(b.time) || a.port.localeCompare(b.port));
  return sorted.map((s) => `${s.time} ${s.port}`).join("\n");
}
