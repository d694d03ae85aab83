// One classic script, because a page from the disk may load no modules; the same bytes each time.  What needs no
// building, index.html and page.css, stands beside it.
import { build } from "esbuild";

const out = new URL("../src/grandlattice/page/bundle/", import.meta.url).pathname;
await build({
  entryPoints: ["src/main.js"], bundle: true, format: "iife", target: "es2022", minify: true, charset: "ascii",
  legalComments: "none", outfile: `${out}page.js`,
});
