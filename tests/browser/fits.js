// What does not fit on the page that is shown: text that is cut off, controls that lie over one another or outside of the
// window. Said on purpose: text with an ellipsis and a title (class truncate or text-overflow), and what scrolls.
() => {
  const seen = (node) => node.checkVisibility({ opacityProperty: true, visibilityProperty: true });
  const top = [...document.querySelectorAll("dialog[open], [popover]:popover-open")].at(-1);
  const root = top || document.body;
  const name = (node) => `${node.tagName.toLowerCase()}${node.id ? `#${node.id}` : ""} "${(node.textContent || node.value || "").trim().slice(0, 40)}"`;
  const trouble = [];
  for (const node of root.querySelectorAll("*")) {
    if (!seen(node) || node.closest("svg, .sr-only, .hidden-title, select, canvas, [data-key].curve")) continue;
    const style = getComputedStyle(node);
    if (["auto", "scroll"].includes(style.overflowX) || style.textOverflow === "ellipsis" || style.webkitLineClamp !== "none" || node.closest('[class*="truncate"]')) continue;
    const text = [...node.childNodes].some((c) => c.nodeType === 3 && c.textContent.trim());
    if (!text && !node.matches("button, .button, input[type=number], input[inputmode]")) continue;
    if (node.scrollWidth > node.clientWidth + 1 && style.display !== "inline") trouble.push(`cut off: ${name(node)}`);
  }
  const boxes = [...root.querySelectorAll("button, select, input, textarea, .button, summary, [role=slider]")].filter((n) => seen(n) && !n.closest(".sr-only, .hidden-title, .corner, #roll, .menu-list") && !n.matches(".hidden-title, [type=radio], [type=checkbox]")).map((n) => [n, n.getBoundingClientRect()]);
  // what a scrolling part does not show of a control lies over nothing
  const shown = ([n, r]) => {
    let { left, top, right, bottom } = r;
    for (let over = n.parentElement; over; over = over.parentElement) {
      if (getComputedStyle(over).overflowY === "visible") continue;
      const box = over.getBoundingClientRect();
      [left, top, right, bottom] = [Math.max(left, box.left), Math.max(top, box.top), Math.min(right, box.right), Math.min(bottom, box.bottom)];
    }
    return [n, { left, top, right, bottom }];
  };
  const visible = ([n, r]) => r.width > 1 && n.contains(document.elementFromPoint((r.left + r.right) / 2, (r.top + r.bottom) / 2));
  const there = boxes.filter(visible).map(shown);
  const scrolls = (n) => n && n !== document.documentElement && (["auto", "scroll"].includes(getComputedStyle(n).overflowY) || scrolls(n.parentElement));
  for (const [node, r] of boxes) if (r.width > 1 && !scrolls(node.parentElement) && (r.right > innerWidth + 1 || r.left < -1 || (r.bottom > innerHeight + 1 && document.documentElement.scrollHeight <= innerHeight))) trouble.push(`outside the window: ${name(node)}`);
  for (let i = 0; i < there.length; i += 1) {
    for (let k = i + 1; k < there.length; k += 1) {
      const [[a, p], [b, q]] = [there[i], there[k]];
      if (a.contains(b) || b.contains(a)) continue;
      const w = Math.min(p.right, q.right) - Math.max(p.left, q.left);
      const h = Math.min(p.bottom, q.bottom) - Math.max(p.top, q.top);
      if (w > 2 && h > 2 && !(a.closest(".preset-cell") && a.closest(".preset-cell") === b.closest(".preset-cell"))) trouble.push(`overlap: ${name(a)} and ${name(b)}`);
    }
  }
  return [...new Set(trouble)];
}
