import js from "@eslint/js";
import globals from "globals";

export default [
  js.configs.recommended,
  {
    files: ["**/*.js"],
    languageOptions: { ecmaVersion: 2024, sourceType: "module", globals: { ...globals.browser, htmx: "readonly" } },
    rules: {
      "consistent-return": "off",
      "eqeqeq": "error",
      "no-implicit-globals": "error",
      "no-shadow": "error",
      "no-var": "error",
      "prefer-const": "error",
    },
  },
  { files: ["**/*.test.js"], languageOptions: { globals: globals.node } },
];
