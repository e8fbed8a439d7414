const sheet = (sailings) =>
  sailings.reduce((text, { time, port }) => (text === "" ? "" : text + "\n") + time + " " + port, "");
