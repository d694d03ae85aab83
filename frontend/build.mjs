// One classic script, because a page from the disk may load no modules; the same bytes each time.
import { build } from "esbuild";
import { copyFileSync } from "node:fs";

const out = new URL("../src/grandlattice/page/bundle/", import.meta.url).pathname;
await build({
  entryPoints: ["src/main.js"], bundle: true, format: "iife", target: "es2022", minify: true, charset: "ascii",
  legalComments: "none", outfile: `${out}page.js`,
});
for (const name of ["index.html", "page.css"]) copyFileSync(new URL(`src/${name}`, import.meta.url), out + name);
