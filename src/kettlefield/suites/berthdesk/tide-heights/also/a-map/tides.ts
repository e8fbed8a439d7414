export interface Tide { minute: number; height: number }

const byMinute = (list: ReadonlyArray<Tide>): Tide[] => list.slice().sort((x, y) => x.minute - y.minute);

export const heightAt = (list: ReadonlyArray<Tide>, minute: number): number | undefined => {
  const row = byMinute(list);
  const next = row.findIndex((tide) => tide.minute >= minute);
  if (next < 0) return undefined;
  if (row[next].minute === minute) return row[next].height;
  if (next === 0) return undefined;
  const [a, b] = [row[next - 1], row[next]];
  return Math.floor((a.height * (b.minute - minute) + b.height * (minute - a.minute)) / (b.minute - a.minute) + 0.5);
};

export function trendAt(list: ReadonlyArray<Tide>, minute: number): string | undefined {
  if (heightAt(list, minute) === undefined) return undefined;
  const row = byMinute(list);
  const after = row.find((tide) => tide.minute > minute);
  if (!after) return "standing";
  const before = row[row.indexOf(after) - 1];
  return ["falling", "standing", "rising"][Math.sign(after.height - before.height) + 1];
}
