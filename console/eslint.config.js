import hooks from "eslint-plugin-react-hooks";
import { defineConfig } from "eslint/config";
import typescript from "typescript-eslint";

export default defineConfig({ ignores: ["src/api/schema.gen.ts"] }, typescript.configs.strict, hooks.configs.flat.recommended);
