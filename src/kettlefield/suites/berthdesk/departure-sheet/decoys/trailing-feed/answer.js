function sheet(sailings) {
  return sailings.map((s) => `${s.time} ${s.port}\n`).join("");
}
