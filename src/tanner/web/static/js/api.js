// Talks to the server; a refusal becomes an Error with the server's own words.

const LONG = /\/(import|deliver|match|merge|check|copies|ahead|resume|apply|upright)$/;

async function answer(response) {
  const type = response.headers.get("content-type") || "";
  const body = type.includes("json") ? await response.json() : null;
  if (!response.ok) throw new Error(body?.error || `The server answered ${response.status}.`);
  return body;
}

async function send(url, options) {
  let response;
  try {
    response = await fetch(url, options);
  } catch {
    throw new Error("Tanner does not answer. Is it still running?");
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
