import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

// Leaves a .gz beside every text file, which the server hands out as it is.
function gzip(): Plugin {
  return {
    name: "gzip",
    apply: "build",
    closeBundle() {
      for (const dir of ["dist", "dist/assets"]) {
        for (const f of readdirSync(dir)) {
          if (/\.(js|css|html|svg)$/.test(f)) {
            const path = join(dir, f);
            writeFileSync(`${path}.gz`, gzipSync(readFileSync(path), { level: 9 }));
          }
        }
      }
      writeFileSync("dist/.keep", "");
    },
  };
}

export default defineConfig({
  base: "./", // the server says in the page where it stands
  plugins: [react(), tailwindcss(), gzip()],
  build: {
    target: "es2022",
    chunkSizeWarningLimit: 600,
    assetsInlineLimit: 0,
    rollupOptions: {
      // The public form's page is the server's; its script has a name that the page knows.
      input: { index: "index.html", form: "src/form/form.ts" },
      output: { entryFileNames: (chunk) => (chunk.name === "form" ? "form.js" : "assets/[name]-[hash].js") },
    },
  },
  server: { proxy: { "/api": process.env.NIVOT_DEV_API ?? "http://127.0.0.1:8420" } }, // make dev
});
