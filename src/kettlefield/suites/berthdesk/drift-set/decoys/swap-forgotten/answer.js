function driftCode(readings) {
  let a = 17;
  let b = 4;
  let c = 0;
  readings.forEach((r, index) => {
    a += r;
    b = (((b * 3 + r) % 101) + 101) % 101;
    if (index > 0 && r === readings[index - 1]) c += 7;
    else if (b % 2 === 0) c += b / 2;
    if ((index + 1) % 3 === 0) a -= 5;
  });
  return [a, b, c];
}
