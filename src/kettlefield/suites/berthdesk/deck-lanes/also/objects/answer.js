const fillLanes = (vehicles, laneLengths, gap) => {
  const lanes = laneLengths.map((length, index) => ({ index, length, used: 0, plates: [] }));
  const quay = [];
  for (const vehicle of vehicles) {
    const options = lanes
      .map((lane) => {
        const extra = lane.plates.length === 0 ? 0 : gap;
        return { lane, rest: lane.length - lane.used - extra - vehicle.length, extra };
      })
      .filter((option) => option.rest >= 0)
      .sort((a, b) => @@room.sign@@(a.rest - b.rest) || @@tie.sign@@(a.lane.index - b.lane.index));
    if (!options.length) {
      quay.push(vehicle.plate);
      continue;
    }
    const { lane, extra } = options[0];
    lane.used += extra + vehicle.length;
    lane.plates.push(vehicle.plate);
  }
  let left = 0;
  for (const lane of lanes) left += lane.length - lane.used;
  return { lanes: lanes.map((lane) => lane.plates), quay, left };
};
