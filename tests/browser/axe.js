// What axe finds on the page in one tone. Parts that stood the same in an earlier state were looked at there: they are left
// out, or the same hundred controls would be looked at in twenty states of one page.
async ([known, tone]) => {
  const seen = new Set(known);
  const [mark, same] = [(text) => { let h = 5381; for (let i = 0; i < text.length; i += 1) h = (h * 33 + text.charCodeAt(i)) | 0; return `${tone}${text.length}:${h}`; }, []];
  const walk = (node, depth) => {
    const its = mark(node.outerHTML);
    if (seen.has(its) && node !== document.body) same.push(node);
    else if (depth < 7) for (const child of node.children) walk(child, depth + 1);
    seen.add(its);
  };
  document.documentElement.dataset.tone = tone;
  walk(document.body, 0);
  const rules = tone ? { runOnly: ["color-contrast"] } : {};
  const found = (await axe.run({ include: [document], exclude: same }, { ...rules, resultTypes: ["violations"] })).violations;
  return { seen: [...seen], found: found.map((v) => [v.id, v.nodes.slice(0, 3).map((n) => n.html.slice(0, 160))]) };
}
