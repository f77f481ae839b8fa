// Words of frames or of a shoot: the fields of IPTC Photo Metadata that a photographer fills in.
import { get, post } from "./api.js";
import { byId, el } from "./dom.js";
import { shootId, trying } from "./shell.js";
import { plural, t, worded } from "./texts.js";

let target = null;
let before = {};

// frames: ids, or null for the words of the whole shoot.
export async function openWords(frames, then = () => null) {
  const sample = frames || (await trying(() => get(`/api/shoots/${shootId}/sheet`)))?.frames.slice(0, 1).map((f) => f.id);
  if (!sample?.length) return;
  const data = await trying(() => post("/api/words/read", { frames: sample }));
  if (!data) return;
  target = { frames, then };
  byId("words-title").textContent = frames ? t`Captions of ${frames.length === 1 ? data.name : plural(frames.length, "frame")}` : t`Captions of the shoot`;
  byId("words-about").textContent = frames ? t`An empty field leaves what the shoot says. Tokens in braces are filled for each frame.` : t`Written into the files of all frames that say nothing else. Tokens in braces are filled for each frame.`;
  before = {};
  byId("words-fields").replaceChildren(
    ...data.fields.filter((f) => frames || f.name !== "keywords").flatMap((f) => {
      const own = frames ? data.own[f.name] : data.shoot[f.name] || "";
      before[f.name] = own;
      const hint = own === null ? t`differs between frames` : frames ? data.shoot[f.name] || "" : "";
      const long = f.name === "caption" || f.name === "usage";
      const input = el(long ? "textarea" : "input", { id: `w-${f.name}`, name: f.name, maxlength: "5000", placeholder: hint, autocomplete: "off", ...(long ? { rows: "2" } : {}) });
      input.value = own || "";
      return [el("label", { for: `w-${f.name}`, text: worded(f.label) }), input];
    }),
  );
  byId("words-tokens").replaceChildren(...Object.entries(data.tokens).flatMap(([t, about]) => [el("code", { title: about, text: `{${t}}` }), " "]));
  byId("words-error").textContent = "";
  byId("words-dialog").showModal();
}

byId("words-form").addEventListener("submit", async (event) => {
  event.preventDefault();
  const words = {};
  for (const input of event.target.elements) {
    if (!input.name) continue;
    // A field that differed and was left empty stays as it was in each frame.
    if (input.value.trim() !== (before[input.name] || "")) words[input.name] = input.value.trim();
  }
  const body = { frames: target.frames, words };
  if ("keywords" in words) {
    body.keywords = words.keywords.split(",").map((k) => k.trim()).filter(Boolean);
    delete words.keywords;
  }
  try {
    if (Object.keys(words).length || body.keywords) await (target.frames ? post("/api/words", body) : post(`/api/shoots/${shootId}/words`, { words }));
  } catch (error) {
    byId("words-error").textContent = error.message;
    return;
  }
  byId("words-dialog").close();
  target.then(words);
});
