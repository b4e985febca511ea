import js from "@eslint/js";
import globals from "globals";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

export default ts.config({ ignores: ["dist", "src/api/*.gen.ts"] }, js.configs.recommended, ts.configs.strict, {
  files: ["src/**/*.{ts,tsx}"],
  languageOptions: { globals: globals.browser },
  plugins: { "react-hooks": hooks },
  rules: {
    ...hooks.configs.recommended.rules,
    "react-hooks/incompatible-library": "off", // the virtual list is not memoized, and need not be
    "no-restricted-globals": ["error", { name: "fetch", message: "Ask the service through api/." }],
  },
});
