import * as fs from "fs";

type Job = { who: string; at: number; len: number; rank: number };

const rows: string[][] = fs.readFileSync(0, "utf8").split("\n").map((row: string) => row.split(/\s+/).filter(Boolean));
const free: number[] = Array.from({ length: +rows[0][1] }, () => 0);
const jobs: Job[] = rows.slice(1).filter((row) => row.length === 4).map((row) => ({ who: row[0], at: +row[1], len: +row[2], rank: +row[3] }));
const out: string[] = [];
let end = 0;
while (jobs.length) {
  let crane = 0;
  free.forEach((moment, i) => { if (moment < free[crane]) crane = i; });
  const now = free[crane];
  let best = -1;
  const worth = (job: Job): number => job.rank + ((now - job.at - ((now - job.at) % 30)) / 30);
  jobs.forEach((job, i) => {
    if (job.at > now) return;
    if (best < 0 || worth(job) > worth(jobs[best]) || (worth(job) === worth(jobs[best]) && job.at < jobs[best].at)) best = i;
  });
  if (best < 0) {
    const soonest = jobs.reduce((least, job) => Math.min(least, job.at), Infinity);
    free.forEach((moment, i) => { free[i] = Math.max(moment, soonest); });
    continue;
  }
  const [job] = jobs.splice(best, 1);
  free[crane] = now + job.len;
  end = Math.max(end, free[crane]);
  out.push(now + " crane " + (crane + 1) + " " + job.who);
}
out.push("done " + end);
console.log(out.join("\n"));
