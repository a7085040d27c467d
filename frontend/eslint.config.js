import js from "@eslint/js";
import hooks from "eslint-plugin-react-hooks";
import tseslint from "typescript-eslint";

export default tseslint.config(
  { ignores: ["src/api/schema.d.ts"] },
  js.configs.recommended,
  ...tseslint.configs.strict,
  {
    plugins: { "react-hooks": hooks },
    rules: { ...hooks.configs.recommended.rules, "@typescript-eslint/no-non-null-assertion": "error" },
  },
);
