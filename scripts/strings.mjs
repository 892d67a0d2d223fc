// Prints every text that a person may read, a line each, with where it stands: of the interface by
// its syntax tree, of the server by its string literals. docs/glossary.md says which words are used.
//
//   node scripts/strings.mjs            all of them
//   node scripts/strings.mjs letter     those that hold a word
import { readdirSync, readFileSync } from "node:fs";
import { createRequire } from "node:module";
import { dirname, join, relative } from "node:path";
import { fileURLToPath } from "node:url";

const root = join(dirname(fileURLToPath(import.meta.url)), "..");
const ts = createRequire(join(root, "web/package.json"))("typescript");

function* files(dir, test) {
  for (const e of readdirSync(join(root, dir), { withFileTypes: true })) {
    const path = join(dir, e.name);
    if (e.isDirectory()) yield* e.name === "node_modules" || e.name === "testdata" ? [] : files(path, test);
    else if (test(path)) yield path;
  }
}

// What is no text: class names, paths, keys.
const code = new Set(["className", "to", "role", "type", "name", "key", "id", "viewBox", "d", "fill", "stroke", "href", "rel", "list", "kind", "align", "side"]);
const reads = (s) => /[A-Za-z]{2,}/.test(s) && (/\s/.test(s.trim()) || /^[A-Z][a-z]+$/.test(s.trim()) || /…|\.$/.test(s));

function* ofInterface(path) {
  const text = readFileSync(join(root, path), "utf8");
  const source = ts.createSourceFile(path, text, ts.ScriptTarget.Latest, true, path.endsWith("x") ? ts.ScriptKind.TSX : ts.ScriptKind.TS);
  const line = (n) => source.getLineAndCharacterOfPosition(n.getStart(source)).line + 1;
  const out = [];
  const visit = (n) => {
    if (ts.isImportDeclaration(n) || ts.isTypeNode(n)) return;
    if (ts.isJsxAttribute(n) && code.has(n.name.getText(source))) return;
    if (ts.isCallExpression(n) && /^(http|api)\.|useQuery$|useKey$/.test(n.expression.getText(source))) return n.arguments.slice(1).forEach(visit);
    if (ts.isPropertyAssignment(n) && /^(className|queryKey|headers|style|classNames|d)$/.test(n.name.getText(source))) return;
    if (ts.isJsxText(n)) out.push([line(n), n.text]);
    else if (ts.isStringLiteral(n) || ts.isNoSubstitutionTemplateLiteral(n)) out.push([line(n), n.text]);
    else if (ts.isTemplateExpression(n)) {
      out.push([line(n), n.head.text + n.templateSpans.map((s) => `{}${s.literal.text}`).join("")]);
      return n.templateSpans.forEach((s) => visit(s.expression));
    }
    ts.forEachChild(n, visit);
  };
  visit(source);
  for (const [at, t] of out) {
    const said = t.replace(/\s+/g, " ").trim();
    if (reads(said) && !/^(\/|https?:|[a-z-]+:[\w-]+ |.*\b(flex|px-|text-ink|border-|w-\[|max-w)\b)/.test(said)) yield [at, said];
  }
}

function* ofServer(path) {
  const lines = readFileSync(join(root, path), "utf8").split("\n");
  for (const [i, l] of lines.entries()) {
    if (/^\s*\/\//.test(l)) continue;
    for (const m of l.replace(/\s\/\/ .*$/, "").matchAll(/"((?:[^"\\]|\\.)*)"/g)) {
      const said = m[1].replace(/\\n/g, " ");
      if (/[A-Za-z]{2,} /.test(said) && reads(said) && !/^(SELECT|INSERT|UPDATE|DELETE|ALTER|CREATE|SET |json:|nivot\/)|= \?|gorm:| IS NULL|ORDER BY|LOAD DATA/.test(said)) yield [i + 1, said];
    }
  }
}

const word = process.argv[2] && new RegExp(process.argv[2], "i");
const lists = [
  [files("web/src", (p) => /\.tsx?$/.test(p) && !p.endsWith(".d.ts")), ofInterface],
  [files("internal", (p) => p.endsWith(".go") && !/_test\.go$|\.gen\.go$|\/(bench|exchangetest|dbtest|layers|database|demo)\//.test(p)), ofServer],
];
for (const [paths, read] of lists)
  for (const path of paths)
    for (const [at, said] of read(path)) if (!word || word.test(said)) console.log(`${relative(root, join(root, path))}:${at}\t${said}`);
