function fillLanes(vehicles, laneLengths, gap) {
  const lanes = laneLengths.map((length) => ({ length, used: 0, plates: [] }));
  const quay = [];
  for (const vehicle of vehicles) {
    const rests = lanes.map((lane) => lane.length - lane.used - vehicle.length - (lane.plates.length ? gap : 0));
    const fitting = rests.filter((rest) => rest >= 0);
    if (!fitting.length) {
      quay.push(vehicle.plate);
      continue;
    }
    const rest = Math.@@room.pick@@(...fitting);
    const lane = lanes[rests.@@tie.find@@(rest)];
    lane.used = lane.length - rest;
    lane.plates.push(vehicle.plate);
  }
  let left = 0;
  for (const lane of lanes) left += lane.length - lane.used;
  return { quay, left, lanes: lanes.map((lane) => lane.plates) };
}
