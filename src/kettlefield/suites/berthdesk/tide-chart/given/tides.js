// heights at Marsh Point today, in metres, at hours after midnight; the last entry is the day's end
const TIDES = [
  { hour: 0, height: 4.5 },
  { hour: 3, height: 2.5 },
  { hour: 6, height: 0.5 },
  { hour: 9, height: 2.3 },
  { hour: 12, height: 4.7 },
  { hour: 15, height: 3.5 },
  { hour: 18, height: 1.0 },
  { hour: 21, height: 2.9 },
  { hour: 24, height: 4.1 },
];
const SHALLOW_M = 2;
