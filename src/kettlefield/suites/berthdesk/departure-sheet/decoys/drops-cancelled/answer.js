function sheet(sailings) {
  const sorted = [...sailings].sort((a, b) => @@open.sign@@a.time.localeCompare(b.time));
  if (sorted.length === 0) return "@@none@@";
  return sorted.filter((s) => !s.cancelled).map((s) => `${s.time} ${s.port}${s.cancelled ? " (cancelled)" : ""}`).join("\n");
}
