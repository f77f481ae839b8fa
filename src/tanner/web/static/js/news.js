// What happens on the server, as it happens: one line a page, shared by all that waits for something.

const AT_LEAST = 120; // ms between two looks
const AT_MOST = 5000; // ms after which one looks without news, too
const WITHOUT = 1000; // ms between looks while the line is lost
const counts = new Map();
const waiting = new Set();
let line = null;
let begun = 0;

function open() {
  line = new WebSocket(`${location.protocol === "https:" ? "wss" : "ws"}://${location.host}/ws/news`);
  line.onmessage = (event) => {
    // What moved while the line was lost is seen by its counter; a server that began anew says so.
    for (const [topic, count] of Object.entries(JSON.parse(event.data))) counts.set(topic, count);
    for (const look of [...waiting]) look();
  };
  line.onclose = () => setTimeout(open, 1000);
}

const pause = (ms) => new Promise((next) => setTimeout(next, ms));

// Hears topics ("frames", "pictures", "work", "lineup"): make it before the first look, and wait for next() before each other.
export function hear(...topics) {
  if (!begun++) open();
  const state = () => ["began", ...topics].map((topic) => counts.get(topic) ?? 0).join();
  let seen = state();
  return {
    async next(atLeast = AT_LEAST, atMost = AT_MOST) {
      await pause(atLeast);
      const lost = line.readyState !== WebSocket.OPEN;
      if (state() === seen) {
        await new Promise((done) => {
          const end = () => {
            clearTimeout(timer);
            waiting.delete(look);
            done();
          };
          const look = () => state() !== seen && end();
          const timer = setTimeout(end, lost && atMost <= AT_MOST ? WITHOUT : atMost);
          waiting.add(look);
        });
      }
      seen = state();
    },
  };
}
