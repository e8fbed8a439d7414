function fillLanes(vehicles, laneLengths, gap) {
  const lanes = laneLengths.map(() => []);
  const free = [...laneLengths];
  const quay = [];
  for (const { plate, length } of vehicles) {
    let best = -1;
    let bestLeft = @@room.start@@;
    for (let lane = 0; lane < free.length; lane += 1) {
      const needed = length + (lanes[lane].length > 0 ? gap : 0);
      const left = free[lane] - needed;
      if (left >= 0 && left @@room.cmp@@@@tie.eq@@ bestLeft) {
        best = lane;
        bestLeft = left;
      }
    }
    if (best === -1) {
      quay.push(plate);
    } else {
      lanes[best].push(plate);
      free[best] = bestLeft;
    }
  }
  return { lanes, quay, left: free.reduce((sum, space) => sum + space, 0) };
}
