// A match that runs behind the scenes is told when it is over.
import { get } from "./api.js";
import { tell, trying, working } from "./shell.js";

export async function followMatch(number, done) {
  if (!number) return;
  for (;;) {
    const job = await trying(() => get(`/api/match/${number}`));
    if (!job) break;
    working(job.over ? "" : `Match ${job.done} of ${job.count}`);
    if (job.over) {
      tell(job.message);
      for (const row of job.rows.filter((r) => r.error)) tell(`${row.name}: ${row.error}`, true);
      break;
    }
    await new Promise((next) => setTimeout(next, 300));
  }
  done();
}
