// What can be done with the frames that are chosen on the Sheet, by the names of its buttons and keys.
import { get, post } from "./api.js";
import { openAutomatic } from "./automatic.js";
import { carryOver } from "./carry.js";
import { followMatch } from "./jobs.js";
import { resetFrames } from "./reset.js";
import { byRules } from "./ruling.js";
import { ask, shootId, tell, trying } from "./shell.js";
import { openWords } from "./words.js";
import { plural, t } from "./texts.js";

// state, ids, choose, show, view: the Sheet's own; load() reads it anew; change and apply send and load; again: frames whose file is tried once more.
export function sheetActions({ state, ids, load, change, apply, marking, choose, show, again, view, matched }) {
  const judged = (verdict) => ids().every((id) => state.frames.get(id).verdict === verdict);

  function openBench() {
    const id = state.active || ids()[0];
    if (id) location.href = `/shoots/${shootId}/bench?frame=${id}`;
  }

  async function carryFrom() {
    const source = state.active && state.chosen.has(state.active) ? state.active : ids()[0];
    const set = state.frames.get(source).set;
    const all = [...state.frames.keys()].filter((id) => id !== source);
    const done = await carryOver(source, {
      chosen: ids().filter((id) => id !== source),
      set: all.filter((id) => state.frames.get(id).set === set),
      shoot: all,
    });
    if (done) load();
  }

  return {
    bench: openBench,
    preset: (key) => apply("/api/apply", { frames: ids(), key }),
    rules: () => byRules(ids(), (job) => (load(), followMatch(job, load))),
    move: (set) => change("/api/sets/move", { frames: ids(), set }),
    keep: () => marking({ verdict: judged("keep") ? "undecided" : "keep" }),
    drop: () => marking({ verdict: judged("drop") ? "undecided" : "drop" }),
    reset: () => resetFrames(ids(), load),
    automatic: () => openAutomatic(ids(), load),
    profile: () => (location.href = `/shoots/${shootId}/profile?frame=${ids()[0]}`),
    lead: () => change(`/api/frames/${ids()[0]}/lead`, {}),
    split: () => change("/api/sets/move", { frames: ids() }),
    merge: () => {
      const sets = [...new Set(ids().map((id) => state.frames.get(id).set))].filter(Boolean);
      return change("/api/sets/merge", { into: sets[0], others: sets.slice(1) });
    },
    alternate: async () => {
      const made = await trying(() => post("/api/alternates", { frames: ids() }));
      if (!made) return;
      await load();
      choose(made.made);
      show(made.made[0]);
    },
    out: () => change("/api/take-out", { frames: ids() }),
    carry: () => carryFrom(),
    words: () => openWords(ids(), load),
    match: () => {
      // The frame that was chosen first is the reference; one alone is matched to its lead.
      const first = state.frames.get(state.anchor) || state.frames.get(ids()[0]);
      const lead = state.sets.find((s) => s.id === first.set)?.lead;
      const reference = state.chosen.size > 1 ? first : state.frames.get(lead) || first;
      matched(reference, ids());
    },
    again: async () => {
      for (const id of ids()) {
        if (!state.frames.get(id).error) continue;
        again.add(id);
        if (!(await trying(() => post(`/api/frames/${id}/locate`)))) again.delete(id);
      }
      load();
    },
    // All frames of the cameras that the chosen ones are of: a clock is wrong for all that it took.
    shift: async () => {
      const cameras = new Set(ids().map((id) => state.frames.get(id).camera));
      const all = [...state.frames.values()].filter((f) => cameras.has(f.camera)).map((f) => f.id);
      const by = await ask({ title: t`Correct the time of ${plural(all.length, "frame")} by ${[...cameras].join(", ")}`, label: t`By hours and minutes, as +1:00 or -0:03:20, or days, as 2d`, value: "+1:00" });
      if (by) change("/api/shift-time", { frames: all, by });
    },
    moved: async () => {
      const roots = (await trying(() => get("/api/folders")))?.folders || [];
      const folder = await ask({ title: t`Look for files that were moved`, label: t`In the folder, and all below it`, value: roots[0] || "" });
      const found = folder && (await trying(() => post(`/api/shoots/${shootId}/find-files`, { folder })));
      if (!found) return;
      tell(t`${plural(found.found.length, "file")} found again${found.left.length ? t`, ${found.left.length} not: ${found.left.slice(0, 5).join(", ")}` : ""}.`, found.left.length > 0);
      load();
    },
    fold: () => {
      const frame = state.frames.get(state.active);
      if (frame) view.unfold(frame);
    },
    deliver: () => {
      sessionStorage.setItem(`tanner.deliver.${shootId}`, JSON.stringify(ids()));
      sessionStorage.removeItem("tanner.deliver.then");
      location.href = `/shoots/${shootId}/deliver?chosen=1`;
    },
  };
}
