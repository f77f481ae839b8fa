// All long work in one place, in the bar of every page: what runs, how long, pause and stop, what failed and why.
import { get, post } from "./api.js";
import { opens } from "./commands.js";
import { byId, el } from "./dom.js";
import { hear } from "./news.js";
import { t, worded } from "./texts.js";

const NOTICE = "tanner.work-notice";
const running = new Map();

const time = (s) => (s === null ? "" : s < 90 ? t`, about ${Math.max(1, Math.round(s))} s left` : t`, about ${Math.round(s / 60)} min left`);

function row(w) {
  const act = (label, url) => (url ? el("button", { type: "button", text: label, "aria-label": `${label}: ${w.title}`, onclick: () => post(url).then(look, look) }) : null);
  const said = w.over ? w.text || t`done` : `${["merge", "noise"].includes(w.kind) ? `${w.done} %` : t`${w.done} of ${w.count}`}${time(w.left_s)}${w.text ? `, ${w.text}` : ""}`;
  return el(
    "li", { class: "border-b border-line py-2" },
    el("div", { class: "flex items-center gap-2" }, w.open ? el("a", { class: "min-w-0 truncate font-semibold", href: w.open, text: w.title }) : el("b", { class: "min-w-0 truncate", text: w.title }), el("span", { class: "bar-fill" }), act(t`Pause`, w.pause), act(t`Go on`, w.resume), act(t`Stop`, w.cancel)),
    w.over ? null : el("progress", { class: "mt-1 w-full", max: Math.max(1, w.count), value: w.done, "aria-label": w.title }),
    el("p", { class: "dim text-small", text: said }),
    ...w.failed.slice(0, 3).map((f) => el("p", { class: "trouble text-small", text: f })),
    w.failed.length > 3 ? el("p", { class: "trouble text-small", text: t`and ${w.failed.length - 3} more` }) : null,
  );
}

function notice(w) {
  if (localStorage.getItem(NOTICE) !== "yes" || typeof Notification === "undefined" || Notification.permission !== "granted") return;
  new Notification(t`Tanner: ${w.title}`, { body: w.failed[0] || w.text || t`done` });
}

async function look() {
  const data = await get("/api/work").catch(() => null);
  if (data) {
    data.work = data.work.map((w) => ({ ...w, title: worded(w.title), text: worded(w.text), failed: w.failed.map(worded) }));
    byId("work-list").replaceChildren(...data.work.map(row));
    byId("work-none").hidden = data.work.length > 0;
    const now = data.work.filter((w) => !w.over);
    const first = now[0];
    const button = byId("work-button");
    button.hidden = !data.work.length;
    byId("work").textContent = first ? `${first.title}: ${Math.round((100 * first.done) / Math.max(1, first.count))} %${now.length > 1 ? t`, and ${now.length - 1} more` : ""}` : "";
    for (const w of data.work) {
      const name = `${w.kind} ${w.id}`;
      if (w.over && running.delete(name)) notice(w);
      if (!w.over) running.set(name, w);
    }
  }
}

// Looked at when something went on, and now and then besides.
async function watch() {
  for (const line = hear("work"); ; ) {
    await look();
    await line.next(running.size ? 800 : 300, running.size ? 5000 : 60_000);
  }
}

opens(byId("work-button"), byId("work-choices"));
const wish = byId("work-notice");
wish.checked = localStorage.getItem(NOTICE) === "yes";
wish.addEventListener("change", async () => {
  if (wish.checked && typeof Notification !== "undefined" && (await Notification.requestPermission()) !== "granted") {
    wish.checked = false;
    byId("work-refused").hidden = false;
  }
  localStorage.setItem(NOTICE, wish.checked ? "yes" : "no");
});
// Every change that a page asks for may have begun something.
document.addEventListener("tanner:posted", () => setTimeout(look, 300));
watch();
