// What the page says, in the reader's language: texts are written in English where they are used, with the tag t,
// and looked up in the catalogue that `/language.js` brings when another language was chosen (see docs/languages.md).

const given = globalThis.tannerTexts ?? null;

export const foreign = given !== null;

const fill = (text, values) => text.replace(/\{(\d+)\}/g, (whole, n) => values[n] ?? whole);

export function t(strings, ...values) {
  if (!given) return String.raw({ raw: strings }, ...values);
  const key = strings.reduce((text, s, n) => `${text}{${n - 1}}${s}`);
  return fill(given.texts[key] ?? key, values);
}

// A count with its word in the right number: plural(2, "frame") is "2 frames".
export function plural(count, word, many = `${word}s`) {
  const forms = given?.plurals[`{0} ${word}`];
  return forms ? fill(forms[given.form(count)], [count]) : `${count} ${count === 1 ? word : many}`;
}

// A text of the catalogue, or one with names and figures in it; undefined where there is none.
function known(text) {
  if (given.texts[text]) return given.texts[text];
  for (const [pattern, there] of given.patterns) {
    const found = text.match(pattern);
    if (found) return fill(there, found.slice(1).map(worded));
  }
  return undefined;
}

const MOST_PIECES = 12;

// What the server says in English: a label, a sentence with names and figures in it, what it says of a file, or one
// thing after another: of those some may hold what parts them, so the longest that is known comes first.
export function worded(text) {
  if (!given || !text) return text;
  const whole = known(text);
  const between = ["; ", ": ", ", "].find((sign) => text.includes(sign));
  const parts = between ? text.split(between) : [];
  if (whole || !between || parts.length > MOST_PIECES) return whole ?? text;
  for (let end = parts.length - 1; end > 1; end--) {
    const there = known(parts.slice(0, end).join(between));
    if (there) return there + between + worded(parts.slice(end).join(between));
  }
  return worded(parts[0]) + between + worded(parts.slice(1).join(between));
}

// A shipped preset or output spec with what it says of itself; names of one's own stay as they are.
export function shippedWords(thing) {
  if (!given || thing.key.startsWith("own/")) return thing;
  const words = thing.values ? ["name", "folder", "about"] : ["title"];
  return { ...thing, ...Object.fromEntries(words.map((key) => [key, worded(thing[key])])) };
}
