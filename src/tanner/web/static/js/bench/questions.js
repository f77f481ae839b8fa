// A question that several frames are asked in the background: asked for until they have said, stopped by its own button.
import { get, post } from "../api.js";
import { trying } from "../shell.js";

const EVERY_MS = 300;

// start: what posting it gives; said(done, count) at each look. The answer, or null where it was stopped or failed.
export async function answered(start, said) {
  const asked = await trying(start);
  if (!asked) return null;
  for (;;) {
    const state = await trying(() => get(`/api/questions/${asked.question}`));
    if (!state) return null;
    const going = said(state.done, state.count);
    if (state.over) return state.cancelled ? null : { ...asked, ...state };
    if (going === false) await trying(() => post(`/api/questions/${asked.question}/cancel`));
    await new Promise((done) => setTimeout(done, EVERY_MS));
  }
}
