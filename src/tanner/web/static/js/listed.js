// Things of a list on a frame, from its values: "areas/ID/name" and so on (see `core.adjust.items`).

// In their order: {id, kind, name, ...}; those of which there is no more than a rest are left out.
export function listed(values, list) {
  const found = new Map();
  for (const [key, value] of Object.entries(values || {})) {
    const [of, id, name] = key.split("/");
    if (of !== list) continue;
    if (!found.has(id)) found.set(id, { id });
    found.get(id)[name] = value;
  }
  return [...found.values()].filter((t) => t.kind).sort((a, b) => (a.order || 0) - (b.order || 0) || a.id.localeCompare(b.id));
}

export const newId = () => [...crypto.getRandomValues(new Uint8Array(4))].map((b) => b.toString(16).padStart(2, "0")).join("");
