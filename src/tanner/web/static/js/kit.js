// Kit: what is used again, parted; presets and profiles are seen on a frame of one's own.
import { upload } from "./api.js";
import { byId } from "./dom.js";
import { care } from "./kit/care.js";
import { dust } from "./kit/dust.js";
import { files } from "./kit/files.js";
import { keywords } from "./kit/keywords.js";
import { presets } from "./kit/presets.js";
import { profiles } from "./kit/profiles.js";
import { rules } from "./kit/rules.js";
import { specs } from "./kit/specs.js";
import { tell, trying } from "./shell.js";
import { t } from "./texts.js";

const tabs = [...document.querySelectorAll("#kit-tabs [role=tab]")];

function open(tab, focus = false) {
  for (const each of tabs) {
    const chosen = each === tab;
    each.setAttribute("aria-selected", String(chosen));
    each.tabIndex = chosen ? 0 : -1;
    byId(each.getAttribute("aria-controls")).hidden = !chosen;
  }
  if (focus) tab.focus();
  history.replaceState(null, "", `#${tab.id.slice(4)}`);
  // Counted when it is looked at: that goes through all that is kept.
  if (tab.id === "tab-care") care();
}
byId("kit-tabs").addEventListener("click", (event) => {
  const tab = event.target.closest("[role=tab]");
  if (tab) open(tab);
});
byId("kit-tabs").addEventListener("keydown", (event) => {
  const by = { ArrowDown: 1, ArrowUp: -1 }[event.key];
  if (!by) return;
  event.preventDefault();
  open(tabs[(tabs.indexOf(document.activeElement) + by + tabs.length) % tabs.length], true);
});
open(byId(`tab-${location.hash.slice(1)}`) || tabs[0]);

for (const [id, url, then] of [["preset-file", "/api/presets/file", presets], ["profile-file", "/api/profiles/file", all]]) {
  byId(id).addEventListener("change", async (event) => {
    const [file] = event.target.files;
    event.target.value = "";
    if (!file) return;
    const done = await trying(() => upload(`${url}?name=${encodeURIComponent(file.name)}`, file));
    if (!done) return;
    tell(t`${file.name} is in.`);
    then();
  });
}

byId("adjustment-find").addEventListener("input", (event) => {
  const words = event.target.value.trim().toLowerCase();
  for (const row of document.querySelectorAll("tr.adjustment")) row.hidden = !row.textContent.toLowerCase().includes(words);
});

async function all() {
  await Promise.all([profiles(), files(), rules()]);
}
await Promise.all([presets(), specs(), keywords(), dust(), all()]);
