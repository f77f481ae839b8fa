// The shoots: find one, go on where one was, start a new one, archive one, restore it.
import { get, post } from "./api.js";
import { byId, el } from "./dom.js";
import { hear } from "./news.js";
import { lastPlace, trying } from "./shell.js";
import { noWalk } from "./walk.js";
import { t } from "./texts.js";

byId("new-shoot").addEventListener("submit", async (event) => {
  event.preventDefault();
  const name = new FormData(event.target).get("name").trim();
  if (!name) return;
  const made = await trying(() => post("/api/shoots", { name }));
  if (made) location.href = `/shoots/${made.id}/import`;
});

// A check of originals: how far it is, then what is not as it came in, each with a link to its frame.
async function checkOriginals(shoot) {
  let check = await trying(() => post(`/api/shoots/${shoot}/check`));
  if (!check) return;
  const place = document.querySelector(`[data-checked="${shoot}"]`);
  const said = el("span");
  const stop = el("button", { type: "button", text: t`Stop` });
  stop.addEventListener("click", () => trying(() => post(`/api/checks/${check.id}/cancel`)));
  place.replaceChildren(said, stop);
  place.hidden = false;
  const line = hear("work");
  while (!check.over) {
    said.textContent = t`Checking originals: ${check.done} of ${check.count}${check.left_s ? t`, about ${check.left_s} s left` : ""}`;
    await line.next();
    const next = await trying(() => get(`/api/checks/${check.id}`));
    if (!next) return;
    check = next;
  }
  stop.remove();
  said.textContent = check.message;
  const list = el("ul");
  for (const row of check.troubles) {
    const item = el("li");
    item.append(el("a", { href: `/shoots/${shoot}/bench?frame=${row.frame}`, text: row.name }), ` ${row.trouble}`);
    list.append(item);
  }
  if (check.troubles.length) place.append(list);
}

document.addEventListener("click", async (event) => {
  const { away, back, check } = event.target.dataset ?? {};
  if (check) {
    event.target.disabled = true;
    await checkOriginals(check);
    event.target.disabled = false;
    return;
  }
  if (!away && !back) return;
  if (await trying(() => post(`/api/shoots/${away || back}/away`, { away: Boolean(away) }))) location.reload();
});

byId("shoot-find")?.addEventListener("input", (event) => {
  const words = event.target.value.trim().toLowerCase();
  const cards = [...document.querySelectorAll(".shoot-card")];
  for (const card of cards) card.hidden = !card.dataset.name.includes(words);
  byId("none-found").hidden = cards.some((card) => !card.hidden);
});

// Where one was last, if that frame is still there.
const last = lastPlace();
if (last) {
  const picture = byId("go-on-picture");
  byId("go-on-text").textContent = `${last.screen}: ${last.shoot}`;
  byId("go-on").href = last.url;
  picture.hidden = !last.frame;
  picture.addEventListener("error", () => (byId("go-on").hidden = true));
  if (last.frame) picture.src = `/api/frames/${last.frame}/picture`;
}

byId("no-walk")?.addEventListener("click", () => {
  noWalk();
  byId("first-walk").hidden = true;
});
