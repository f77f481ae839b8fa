// Room and backups: when the catalogue was copied, how large it is, and how much room is given to what can be made again.
import { get, post } from "../api.js";
import { byId, el } from "../dom.js";
import { tell, trying } from "../shell.js";
import { t } from "../texts.js";

const NAMES = { previews: [t`Pictures of frames`, "previews_gigabytes"], blocks: [t`Small raw data, for pictures`, "blocks_gigabytes"], quiet: [t`Frames without noise`, "quiet_gigabytes"] };
const large = (bytes) => (bytes >= 1e9 ? `${(bytes / 1e9).toFixed(1)} GB` : bytes >= 1e5 ? `${(bytes / 1e6).toFixed(1)} MB` : t`${(bytes / 1e3).toFixed(0)} kB`);
const when = (iso) => new Date(iso).toLocaleString(document.documentElement.lang, { day: "numeric", month: "long", year: "numeric", hour: "2-digit", minute: "2-digit" });

function show(now) {
  byId("care-catalogue").textContent = `${now.catalogue.path}, ${large(now.catalogue.bytes)}`;
  byId("care-hours").value = now.hours;
  byId("care-kept").value = now.kept;
  byId("care-trouble").textContent = now.trouble;
  byId("care-rows").replaceChildren(
    ...(now.backups.length
      ? now.backups.map((b) => el("tr", {}, el("td", { class: "tight", text: when(b.at) }), el("td", { class: "num", text: large(b.bytes) }), el("td", { class: "tight dim text-small", text: b.name })))
      : [el("tr", {}, el("td", { colspan: "3", class: "dim", text: t`None yet.` }))]),
  );
  byId("care-room-rows").replaceChildren(
    ...now.rooms.map((r) => {
      const [title, name] = NAMES[r.name];
      return el("tr", {}, el("td", { text: title }), el("td", { class: "num", text: large(r.bytes) }), el("td", { class: "whitespace-nowrap" }, el("input", { type: "number", min: "0.05", max: "100000", step: "any", class: "w-20", name, value: String(r.gigabytes), "aria-label": t`${title}: at most, in GB` }), t` GB`));
    }),
  );
}

async function set(values, said) {
  const now = await trying(() => post("/api/care", values));
  if (!now) return;
  show(now);
  tell(said);
}

export async function care() {
  const now = await trying(() => get("/api/care"));
  if (now) show(now);
}

byId("care-backups").addEventListener("submit", (event) => {
  event.preventDefault();
  set({ backup_hours: Number(byId("care-hours").value), backups_kept: Number(byId("care-kept").value) }, t`Set.`);
});
byId("care-rooms").addEventListener("submit", (event) => {
  event.preventDefault();
  set(Object.fromEntries([...event.target.querySelectorAll("input")].map((i) => [i.name, Number(i.value)])), t`Set.`);
});
byId("care-now").addEventListener("click", async () => {
  byId("care-now").disabled = true;
  const now = await trying(() => post("/api/care/backup"));
  byId("care-now").disabled = false;
  if (!now) return;
  show(now);
  tell(t`The catalogue was backed up, and the copy checked.`);
});
