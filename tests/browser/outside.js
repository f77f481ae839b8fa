// What is seen or announced and is in no catalogue: texts outside of the marks of the made-up language (tests/pseudo.py).
// What a person wrote (names, numbers, codes of files) is told by a pattern.
([begin, end, own, except]) => {
  const mine = new RegExp(own, "gu");
  const outside = (text) => {
    let depth = 0;
    let rest = "";
    for (const sign of text) {
      if (sign === begin) depth++;
      else if (sign === end) depth--;
      else if (depth <= 0) rest += sign;
    }
    rest = rest.replace(mine, " ");
    return /[A-Za-z]{2}/.test(rest);
  };
  const found = new Set();
  const said = ["title", "aria-label", "placeholder", "alt", "aria-valuetext"];
  for (const node of document.body.querySelectorAll("*")) {
    if (!node.checkVisibility({ visibilityProperty: true }) || node.closest(`script, style, code, kbd, ${except}`)) continue;
    for (const name of said) if (node.hasAttribute(name) && outside(node.getAttribute(name))) found.add(`${name}: ${node.getAttribute(name)}`);
    for (const child of node.childNodes) if (child.nodeType === 3 && outside(child.textContent)) found.add(`${node.tagName.toLowerCase()}${node.id ? "#" + node.id : ""}: ${child.textContent.trim()}`);
  }
  return [...found];
}
