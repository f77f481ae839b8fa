// A delivery that runs or ran: its table and its sheet of written files, pause, cancel, go on, and the check of the files.
import { get, post } from "./api.js";
import { byId, el, number, size } from "./dom.js";
import { hear } from "./news.js";
import { shootId, trying } from "./shell.js";
import { plural, t, worded } from "./texts.js";

const under = (path, folder) => (path.startsWith(`${folder}/`) ? path.slice(folder.length + 1) : path);
const SAID = { failed: (r) => r.message, skipped: () => t`left out: the name was taken`, running: () => t`being written`, waiting: () => t`waiting`, cancelled: () => t`given up` };

function time(seconds) {
  if (seconds < 90) return `${Math.max(1, Math.round(seconds))} s`;
  return seconds < 5400 ? t`${Math.round(seconds / 60)} min` : `${number(seconds / 3600, 1)} h`;
}

export class Delivered {
  // on: {closed(), changed()}
  constructor(on) {
    this.on = on;
    this.id = null;
    this.round = 0;
    this.rows = new Map();
    this.record = null;
    this.pictures = false;
    this.found = null;
    byId("run-pause").addEventListener("click", () => trying(() => post(`/api/deliveries/${this.id}/pause`)));
    byId("run-cancel").addEventListener("click", () => trying(() => post(`/api/deliveries/${this.id}/cancel`)));
    byId("run-resume").addEventListener("click", async () => {
      const id = this.id;
      if (await trying(() => post(`/api/deliveries/${id}/resume`))) this.follow(id);
    });
    byId("run-check").addEventListener("click", () => this.check());
    byId("run-view").addEventListener("click", () => this.see(!this.pictures));
    byId("run-close").addEventListener("click", () => {
      this.id = null;
      this.see(false);
      byId("run").hidden = byId("run-documents").hidden = true;
      this.on.closed();
    });
  }

  async follow(id) {
    this.id = id;
    this.found = null;
    // A newer call, for the same delivery with more frames, ends this one.
    const mine = ++this.round;
    const record = await trying(() => get(`/api/deliveries/${id}`));
    if (!record || this.id !== id || mine !== this.round) return;
    this.record = record;
    byId("run").hidden = false;
    byId("bytes-head").textContent = t`Bytes`;
    byId("table-title").textContent = t`Delivery ${id}`;
    byId("table-empty").hidden = true;
    byId("run-record").href = `/api/deliveries/${id}`;
    byId("run-record").setAttribute("download", `delivery-${id}.json`);
    this.rows = new Map();
    byId("rows").replaceChildren(...record.items.map((r) => this.row(r)));
    this.see(this.pictures);
    let since = -1;
    const line = hear("work", "frames");
    for (;;) {
      const now = await trying(() => get(`/api/deliveries/${id}/progress?since=${since}`));
      if (!now || this.id !== id || mine !== this.round) return;
      since = now.counter;
      if (now.items.some((item) => !this.rows.has(item.id))) return void this.follow(id); // frames were added meanwhile
      for (const item of now.items) this.update(item);
      if (this.tell(now)) return;
      await line.next(300);
    }
  }

  row(item) {
    const state = el("td", {});
    const bytes = el("td", { class: "num" });
    const file = el("td", {});
    const dims = el("td", { class: "num" });
    const node = el("tr", { "data-item": String(item.id) }, el("td", { class: "tight", text: item.original }), el("td", { class: "tight", text: this.record.specs[item.spec].title }), dims, bytes, file, state);
    this.rows.set(item.id, { item, node, state, bytes, file, dims });
    this.update(item);
    return node;
  }

  update(item) {
    const row = this.rows.get(item.id);
    row.item = { ...row.item, ...item };
    row.dims.textContent = `${item.width} × ${item.height}`;
    row.bytes.textContent = item.bytes ? size(item.bytes) : "";
    row.file.textContent = under(item.path, this.record.folder);
    row.state.className = `state-${item.state}`;
    row.state.textContent = item.state === "done" ? t`written${item.message ? `; ${item.message}` : ""}` : SAID[item.state](item);
  }

  tell(now) {
    const count = (state) => now.states[state] || 0;
    const total = [...this.rows.values()].length;
    const left = count("waiting") + count("running");
    const ended = ["done", "paused", "cancelled"].includes(now.state);
    const busy = count("running") > 0;
    const failed = count("failed");
    byId("run-progress").max = total;
    byId("run-progress").value = total - left;
    const rest = now.left_s !== null ? t`, about ${time(now.left_s)} left` : "";
    const bytes = [...this.rows.values()].reduce((sum, r) => sum + (r.item.state === "done" ? r.item.bytes : 0), 0);
    const state = { paused: busy ? t`, pausing` : t`, paused`, cancelled: t`, cancelled` }[now.state] || "";
    byId("run-text").textContent = t`${count("done")} of ${plural(total, "file")} written${bytes ? `, ${size(bytes)}` : ""}${failed ? t`, ${failed} failed` : ""}${count("skipped") ? t`, ${count("skipped")} left out` : ""}${state}${rest}`;
    byId("run-pause").hidden = byId("run-cancel").hidden = now.state === "done" || now.state === "cancelled";
    byId("run-pause").hidden ||= now.state === "paused";
    const again = failed + count("cancelled");
    // Paused after its last file it has still to end: its documents are not written.
    byId("run-resume").hidden = !(ended && !busy && (left || again || now.state === "paused"));
    byId("run-resume").textContent = failed && !left ? t`Try again` : t`Go on`;
    byId("run-close").hidden = !ended;
    byId("run-view").hidden = byId("run-check").hidden = byId("run-record").hidden = !ended || !count("done");
    byId("table-count").textContent = "";
    this.documents(now.documents);
    if (!ended || busy) return false;
    if (this.pictures) this.see(true);
    this.on.changed();
    return true;
  }

  documents(list) {
    const node = byId("run-documents");
    node.hidden = !list.length;
    const words = { contact: t`contact sheet`, order: t`order sheet`, table: t`list`, record: t`record`, checksums: t`checksums`, zip: t`zip` };
    node.textContent = list.map((d) => (d.error ? `${words[d.kind]}: ${d.error}` : under(d.path, this.record.folder))).join(", ");
  }

  // The written files as a sheet, or as a table.
  see(pictures) {
    this.pictures = pictures && this.id !== null;
    byId("written").hidden = !this.pictures;
    byId("files-table").hidden = this.pictures;
    byId("run-view").setAttribute("aria-pressed", String(this.pictures));
    byId("run-view").textContent = this.pictures ? t`As a table` : t`As pictures`;
    if (!this.pictures) return void byId("written").replaceChildren();
    byId("written").replaceChildren(
      ...[...this.rows.values()].filter((r) => r.item.state === "done").map(({ item }) => {
        const trouble = this.found?.[item.id];
        return el(
          "figure",
          { class: trouble ? "written-cell differs" : "written-cell" },
          el("span", { class: "written-picture grid place-items-center h-37.5 bg-surround mb-1" }, el("img", { alt: "", loading: "lazy", src: `/api/deliveries/${this.id}/items/${item.id}/picture` })),
          el("figcaption", {}, el("b", { text: under(item.path, this.record.folder) }), el("br"), t`${item.width} × ${item.height} px`, el("br"), el("span", { class: "dim", text: t`${size(item.bytes)} from ${size(this.original(item))}` }), trouble ? el("span", { class: "note", text: trouble === "gone" ? t`is no longer there` : t`was changed since` }) : null),
        );
      }),
    );
  }

  original(item) {
    return this.record.items.find((r) => r.id === item.id)?.original_bytes || 0;
  }

  async check() {
    const id = this.id;
    const line = hear("work");
    if (!(await trying(() => post(`/api/deliveries/${id}/check`)))) return;
    for (;;) {
      const state = await trying(() => get(`/api/deliveries/${id}/check`));
      if (!state || this.id !== id) return;
      const odd = Object.keys(state.found).length;
      byId("run-text").textContent = state.over ? (odd ? t`${odd} of ${plural(state.total, "file")} not as written` : t`all ${plural(state.total, "file")} as written`) : t`checking ${state.done} of ${state.total}`;
      if (state.over) {
        this.found = state.found;
        for (const [item, what] of Object.entries(state.found)) {
          const row = this.rows.get(Number(item));
          row.state.textContent = what === "gone" ? t`is no longer there` : t`was changed since`;
          row.state.className = "state-failed";
        }
        if (this.pictures) this.see(true);
        return;
      }
      await line.next();
    }
  }
}

export async function earlier(running, follow) {
  const data = await trying(() => get(`/api/shoots/${shootId}/deliveries`));
  if (!data) return;
  byId("earlier").replaceChildren(
    el("option", { value: "", text: data.deliveries.length ? t`Earlier deliveries` : t`No delivery yet` }),
    ...data.deliveries.map((d) => el("option", { value: d.delivery, text: `${d.delivery}: ${new Date(`${d.created}Z`).toLocaleString(document.documentElement.lang)}, ${plural(d.total, "file")}, ${worded(d.state)}` })),
  );
  const under = data.deliveries.find((d) => d.state === "running" || d.state === "waiting");
  if (under && !running) follow(under.delivery);
}
