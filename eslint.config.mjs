// Only what is a fault: names that do not exist, names that nothing uses.
import globals from "globals";

export default [
  {
    files: ["src/tanner/web/static/js/**/*.js"],
    languageOptions: { ecmaVersion: 2024, sourceType: "module", globals: globals.browser },
    rules: { "no-undef": "error", "no-unused-vars": ["error", { ignoreRestSiblings: true, varsIgnorePattern: "^_$" }] },
  },
];
