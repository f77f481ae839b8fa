// Small helpers for building elements. Text is always set as text, never as markup.

export function el(tag, attributes = {}, ...children) {
  const node = document.createElement(tag);
  for (const [key, value] of Object.entries(attributes)) {
    if (value === undefined || value === null || value === false) continue;
    if (key === "class") node.className = value;
    else if (key.startsWith("on")) node.addEventListener(key.slice(2), value);
    else if (key === "text") node.textContent = value;
    else if (key in node && !["list", "form"].includes(key) && typeof value !== "string") node[key] = value;
    else node.setAttribute(key, value === true ? "" : value);
  }
  node.append(...children.filter((c) => c !== null && c !== undefined));
  return node;
}

const SVG = "http://www.w3.org/2000/svg";
export function svg(tag, attributes = {}, ...children) {
  const node = document.createElementNS(SVG, tag);
  for (const [key, value] of Object.entries(attributes)) node.setAttribute(key, value);
  node.append(...children);
  return node;
}

export const byId = (id) => document.getElementById(id);

// Numbers as people read them: a real minus sign, no more digits than the step has.
export function number(value, digits = 2) {
  const text = Number(value).toFixed(digits);
  const plain = digits > 0 ? text.replace(/\.?0+$/, "") : text;
  return (plain === "-0" ? "0" : plain).replace("-", "\u2212");
}

export const digitsOf = (step) => (step >= 1 ? 0 : Math.min(4, Math.ceil(-Math.log10(step) - 1e-9)));

export function size(bytes) {
  if (bytes < 1000) return `${bytes} B`;
  if (bytes < 1e6) return `${number(bytes / 1e3, 0)} kB`;
  return `${number(bytes / 1e6, 1)} MB`;
}
