function sheet(sailings) {
  let text = "";
  for (let i = 0; i < sailings.length; i++) {
    if (i > 0) text += "\n";
    text += sailings[i].time + " " + sailings[i].port;
  }
  return text;
}
