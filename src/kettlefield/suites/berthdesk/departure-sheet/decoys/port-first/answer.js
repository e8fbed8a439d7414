function sheet(sailings) {
  return sailings.map((s) => `${s.port} ${s.time}`).join("\n");
}
