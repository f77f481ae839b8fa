// Only what is a fault: names that do not exist, names that nothing uses, texts that are in no catalogue.
import globals from "globals";

const SEEN = new Set(["text", "title", "aria-label", "placeholder", "alt", "label", "about", "section", "help", "textContent", "ariaLabel"]);
const TELLS = new Set(["tell", "Error", "ask"]);
const nameOf = (node) => node?.name ?? node?.value ?? node?.property?.name ?? node?.property?.value;

// Whether what stands here is shown or announced: as an attribute, a text, a child of an element, a notice.
function isSeen(node) {
  for (let child = node, parent = node.parent; parent; [child, parent] = [parent, parent.parent]) {
    if (parent.type === "TaggedTemplateExpression" || parent.type === "MemberExpression") return false;
    if (parent.type === "ConditionalExpression" && parent.test === child) return false;
    if (parent.type === "BinaryExpression" && parent.operator !== "+") return false;
    if (parent.type === "Property") return parent.value === child && SEEN.has(nameOf(parent.key));
    if (parent.type === "AssignmentExpression") return parent.right === child && SEEN.has(nameOf(parent.left));
    if (parent.type === "CallExpression" || parent.type === "NewExpression") {
      const called = nameOf(parent.callee);
      return TELLS.has(called) || (called === "el" && parent.arguments.indexOf(child) > 1);
    }
    if (/Function|Declarator|Statement/.test(parent.type)) return false;
  }
  return false;
}

const words = {
  create(context) {
    const look = (node, text) => {
      // Units are the same everywhere; single letters and signs are no words.
      if (/\p{L}{2}/u.test(text.replace(/(px|kB|MB|EV|K|ΔE|CIEDE2000)(?!\p{L})/gu, "")) && isSeen(node)) context.report({ node, message: "A text that is in no catalogue: write it as t`…` (docs/languages.md)." });
    };
    return {
      Literal: (node) => typeof node.value === "string" && look(node, node.value),
      TemplateLiteral: (node) => look(node, node.quasis.map((q) => q.value.cooked).join(" ")),
    };
  },
};

export default [
  {
    files: ["src/tanner/web/static/js/**/*.js"],
    languageOptions: { ecmaVersion: 2024, sourceType: "module", globals: globals.browser },
    rules: { "no-undef": "error", "no-unused-vars": ["error", { ignoreRestSiblings: true, varsIgnorePattern: "^_$" }] },
  },
  {
    files: ["src/tanner/web/static/js/**/*.js"],
    ignores: ["src/tanner/web/static/js/parts.js"], // looked at while Tanner is made
    plugins: { tanner: { rules: { words } } },
    rules: { "tanner/words": "error" },
  },
];
