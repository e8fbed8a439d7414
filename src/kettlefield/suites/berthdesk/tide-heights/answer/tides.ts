export interface Tide {
  minute: number;
  height: number;
}

export type Trend = "rising" | "falling" | "standing";

function around(tides: readonly Tide[], minute: number): [Tide, Tide] | undefined {
  const sorted = [...tides].sort((a, b) => a.minute - b.minute);
  for (let at = 0; at < sorted.length; at++) {
    const before = sorted[at];
    const after = sorted[Math.min(at + 1, sorted.length - 1)];
    if (before.minute === minute || (before.minute < minute && minute < after.minute)) {
      return [before, after];
    }
  }
  return undefined;
}

export function heightAt(tides: readonly Tide[], minute: number): number | undefined {
  const pair = around(tides, minute);
  if (pair === undefined) {
    return undefined;
  }
  const [before, after] = pair;
  const span = after.minute - before.minute;
  const share = span === 0 ? 0 : (minute - before.minute) / span;
  return Math.round(before.height + (after.height - before.height) * share);
}

export function trendAt(tides: readonly Tide[], minute: number): Trend | undefined {
  const pair = around(tides, minute);
  if (pair === undefined) {
    return undefined;
  }
  const change = pair[1].height - pair[0].height;
  return change > 0 ? "rising" : change < 0 ? "falling" : "standing";
}
