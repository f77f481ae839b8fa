// The list of shoots: start a new one, put one away, bring it back.
import { post } from "./api.js";
import { byId } from "./dom.js";
import { trying } from "./shell.js";

byId("new-shoot").addEventListener("submit", async (event) => {
  event.preventDefault();
  const name = new FormData(event.target).get("name").trim();
  if (!name) return;
  const made = await trying(() => post("/api/shoots", { name }));
  if (made) location.href = `/shoots/${made.id}/import`;
});

document.addEventListener("click", async (event) => {
  const { away, back } = event.target.dataset ?? {};
  if (!away && !back) return;
  if (await trying(() => post(`/api/shoots/${away || back}/away`, { away: Boolean(away) }))) location.reload();
});
