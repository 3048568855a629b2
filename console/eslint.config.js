import js from "@eslint/js";
import a11y from "eslint-plugin-jsx-a11y";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

export default ts.config(
  { ignores: ["src/api/schema.d.ts"] },
  js.configs.recommended,
  ...ts.configs.strict,
  a11y.flatConfigs.strict,
  { plugins: { "react-hooks": hooks }, rules: hooks.configs.recommended.rules },
  { rules: { "jsx-a11y/no-noninteractive-tabindex": ["error", { tags: [], roles: ["region"], allowExpressionValues: true }] } },
  { rules: { "max-len": ["error", { code: 140, ignoreRegExpLiterals: true }] } },
  { rules: { "max-lines": ["error", { max: 200, skipBlankLines: true, skipComments: true }] } },
);
