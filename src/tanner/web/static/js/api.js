// Talks to the server; a refusal becomes an Error with the server's own words.
import { foreign, t, worded } from "./texts.js";

const LONG = /\/(import|deliver|match|merge|check|copies|ahead|resume|apply|upright)$/;

// Where the program speaks in what it answers: names and values are never among them.
const SPOKEN = new Set(["error", "message", "reason", "told", "problems", "warnings", "said", "done", "when", "damage", "trouble", "clash", "remarks", "words"]);

// What was answered, with all that the program says in it in the reader's language.
function inWords(value, key = "") {
  if (typeof value === "string") return SPOKEN.has(key) ? worded(value) : value;
  if (Array.isArray(value)) return value.map((each) => inWords(each, key));
  if (value && typeof value === "object") return Object.fromEntries(Object.entries(value).map(([k, v]) => [k, inWords(v, k)]));
  return value;
}

async function answer(response) {
  const type = response.headers.get("content-type") || "";
  const body = type.includes("json") ? await response.json() : null;
  if (!response.ok) throw new Error(worded(body?.error) || t`The server answered ${response.status}.`);
  return foreign ? inWords(body) : body;
}

async function send(url, options) {
  let response;
  try {
    response = await fetch(url, options);
  } catch {
    throw new Error(t`Tanner does not answer. Is it still running?`);
  }
  return answer(response);
}

export const get = (url) => send(url);
export async function post(url, body = {}) {
  const found = await send(url, { method: "POST", headers: { "content-type": "application/json" }, body: JSON.stringify(body) });
  // Some requests begin long work: what shows it looks again.
  if (LONG.test(url)) document.dispatchEvent(new CustomEvent("tanner:posted"));
  return found;
}
export const remove = (url) => send(url, { method: "DELETE" });
export const upload = (url, file) => send(url, { method: "POST", body: file });
