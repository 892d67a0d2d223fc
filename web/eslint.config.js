import a11y from "eslint-plugin-jsx-a11y";
import react from "eslint-plugin-react";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

export default ts.config(
  { ignores: ["dist", "src/api/schema.d.ts", "*.js", "*.ts"] },
  ...ts.configs.recommendedTypeChecked,
  react.configs.flat.recommended,
  react.configs.flat["jsx-runtime"],
  hooks.configs.flat["recommended-latest"],
  a11y.flatConfigs.recommended,
  {
    files: ["src/**/*.{ts,tsx}"],
    languageOptions: { parserOptions: { projectService: true, tsconfigRootDir: import.meta.dirname } },
    settings: { react: { version: "detect" } },
    rules: {
      // TypeScript checks what is passed to a component.
      "react/prop-types": "off",
      // It warns of what the React compiler would skip; it is not used here.
      "react-hooks/incompatible-library": "off",
      // A part that scrolls has to be reached by the keys (WCAG 2.1.1).
      "jsx-a11y/no-noninteractive-tabindex": [
        "error",
        { tags: [], roles: ["region", "tabpanel"], allowExpressionValues: true },
      ],
    },
  },
);
