// Kit: presets and output specs as files; bring in, give out, take away.
import { get, remove, upload } from "./api.js";
import { byId, el, plural } from "./dom.js";
import { tell, trying } from "./shell.js";

const own = (key) => key.startsWith("own/");

async function presets() {
  const data = await trying(() => get("/api/presets"));
  if (!data) return;
  byId("problems").replaceChildren(...data.problems.map((p) => el("li", { text: p })));
  byId("presets").replaceChildren(
    ...data.presets.map((p) => {
      const names = Object.keys(p.values);
      const unknown = p.unknown.length ? ` (${plural(p.unknown.length, "name")} of a newer version, kept)` : "";
      const tools = el("td", { class: "num" }, el("a", { class: "button", href: `/api/presets/file?key=${encodeURIComponent(p.key)}`, download: "", text: "Give out" }));
      if (own(p.key)) tools.append(" ", el("button", { type: "button", text: "Delete", "aria-label": `Delete ${p.name}`, onclick: () => take(`/api/presets?key=${encodeURIComponent(p.key)}`, presets) }));
      return el("tr", {}, el("td", { class: "tight", text: p.folder }), el("td", { class: "tight", text: p.name }), el("td", { text: p.about }), el("td", { text: names.join(", ") + unknown }), tools);
    }),
  );
}

async function specs() {
  const data = await trying(() => get("/api/specs"));
  if (!data) return;
  byId("specs").replaceChildren(
    ...data.specs.map((s) => {
      const tools = el("td", { class: "num" });
      if (own(s.key)) tools.append(el("button", { type: "button", text: "Delete", "aria-label": `Delete ${s.title}`, onclick: () => take(`/api/specs?key=${encodeURIComponent(s.key)}`, specs) }));
      const format = s.format === "jpeg" ? `jpeg, quality ${s.quality}` : s.format;
      return el("tr", {}, ...[s.title, s.size, format, s.space, s.name, s.subfolder].map((text) => el("td", { text })), tools);
    }),
  );
}

async function take(url, then) {
  if (await trying(() => remove(url))) then();
}

byId("preset-file").addEventListener("change", async (event) => {
  const [file] = event.target.files;
  event.target.value = "";
  if (!file) return;
  const done = await trying(() => upload(`/api/presets/file?name=${encodeURIComponent(file.name)}`, file));
  if (done) {
    tell(`${file.name} is in.`);
    presets();
  }
});

presets();
specs();
