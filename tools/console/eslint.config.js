// What the console's code is held to, beside its types and its format.
import js from "@eslint/js";
import accessible from "eslint-plugin-jsx-a11y";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

export default ts.config(
  js.configs.recommended,
  ts.configs.recommended,
  accessible.flatConfigs.strict,
  hooks.configs.flat.recommended,
  {
    rules: {
      "max-len": ["error", { code: 120, ignoreUrls: true, ignorePattern: "className=|<path " }],
      // A region that scrolls is reached with the keyboard too.
      "jsx-a11y/no-noninteractive-tabindex": ["error", { tags: ["main"], roles: [] }],
      "jsx-a11y/label-has-associated-control": ["error", { controlComponents: ["Switch.Root"] }],
      "@typescript-eslint/no-unused-vars": ["error", { argsIgnorePattern: "^_" }],
    },
  },
);
