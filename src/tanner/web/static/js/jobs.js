// A match that runs behind the scenes is told when it is over.
import { get } from "./api.js";
import { hear } from "./news.js";
import { tell, trying } from "./shell.js";

// said(job) is called at each look, done() at the end.
export async function followMatch(number, done, said = () => null) {
  if (!number) return;
  const line = hear("work");
  for (;;) {
    const job = await trying(() => get(`/api/match/${number}`));
    if (!job) break;
    said(job);
    if (job.over) {
      tell(job.message);
      for (const row of job.rows.filter((r) => r.error)) tell(`${row.name}: ${row.error}`, true);
      break;
    }
    await line.next();
  }
  done();
}
