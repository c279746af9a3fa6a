// The public surface as one text: every name that the package exports, with its signature, by entry. `--write` writes it;
// without, it is compared with what is in the repository, and a type that a signature names but nobody can import is an error.
import { existsSync, readFileSync, writeFileSync } from "node:fs";
import { fileURLToPath } from "node:url";
import ts from "typescript";

const root = fileURLToPath(new URL("..", import.meta.url));
const file = `${root}docs/api.txt`;
const { exports: entries } = JSON.parse(readFileSync(`${root}package.json`, "utf8"));
const declared = Object.entries(entries).filter(([, entry]) => entry.types !== undefined);
const paths = declared.map(([, entry]) => root + entry.types.slice(2));
if (!paths.every(existsSync)) {
  console.error("The library is not built: npm run build");
  process.exit(2);
}

const program = ts.createProgram(paths, {
  module: ts.ModuleKind.NodeNext,
  target: ts.ScriptTarget.ES2022,
  skipLibCheck: true,
});
const checker = program.getTypeChecker();
const printer = ts.createPrinter({ removeComments: true });
/** Types that only serve to infer others, or whose values are handed on without being looked into: nobody needs their names. */
const unnamed = new Set(
  `
  AnyRequest CellAction CheckedDeclaration ComparedRecords ConditionScope CustomAction DeclaredTable DocumentTypesOf
  Effect ExpectationOf Expression FieldName Fields GivenValues IsOptional Messages Opaque Openings PersonKey
  PersonKeys ProtectionOf RuleHead SessionState StoredValue TableName TableTypes ToSomebody Without
  `
    .trim()
    .split(/\s+/),
);
const isOurs = (node) => node.getSourceFile().fileName.startsWith(`${root}dist/`);
const followed = (symbol) => (symbol.flags & ts.SymbolFlags.Alias ? checker.getAliasedSymbol(symbol) : symbol);

const modules = declared.map(([name, entry]) => {
  const source = program.getSourceFile(root + entry.types.slice(2));
  const names = checker.getExportsOfModule(checker.getSymbolAtLocation(source) ?? source.symbol);
  return { name: name === "." ? "portier" : `portier${name.slice(1)}`, names };
});
const importable = new Set(modules.flatMap(({ names }) => names.map(followed)));

/** A declaration without what is private, and without bodies or comments, on as few lines as it takes. */
function signature(node) {
  const shown = ts.transform(node, [
    (context) => (top) => {
      const visit = (one) => {
        const isPrivate =
          ts.isClassElement(one) &&
          (one.name === undefined ? ts.isConstructorDeclaration(one) : ts.isPrivateIdentifier(one.name)) === true;
        return isPrivate ? undefined : ts.visitEachChild(one, visit, context);
      };
      return ts.visitNode(top, visit);
    },
  ]).transformed[0];
  return printer
    .printNode(ts.EmitHint.Unspecified, shown, node.getSourceFile())
    .replace(/^export (declare )?/, "")
    .replace(/\n\s*\n/g, "\n");
}

/** The types of ours that a declaration names. */
function named(node, found) {
  const visit = (one) => {
    if (ts.isClassElement(one) && one.name !== undefined && ts.isPrivateIdentifier(one.name)) return;
    if (ts.isConstructorDeclaration(one)) return;
    const name = ts.isTypeReferenceNode(one)
      ? one.typeName
      : ts.isExpressionWithTypeArguments(one)
        ? one.expression
        : ts.isImportTypeNode(one)
          ? one.qualifier
          : undefined;
    const symbol = name && checker.getSymbolAtLocation(name);
    if (symbol !== undefined) found.add(followed(symbol));
    ts.forEachChild(one, visit);
  };
  visit(node);
}

const lines = [
  "The public surface of Portier. Written by `npm run api -- --write`, compared in CI: a change of it is seen in review.",
  "What portier/tooling exports is not versioned.",
];
const places = new Map();
const lost = new Map();
for (const { name, names } of modules) {
  lines.push("", `== ${name}`);
  for (const symbol of [...names].sort((a, b) => (a.name < b.name ? -1 : 1))) {
    const target = followed(symbol);
    const first = places.get(target);
    if (first !== undefined) {
      lines.push("", `${symbol.name}: as in ${first}`);
      continue;
    }
    places.set(target, name);
    for (const node of target.declarations ?? []) {
      const whole = ts.isVariableDeclaration(node) ? node.parent.parent : node;
      if (!isOurs(whole)) continue;
      lines.push("", signature(whole));
      const found = new Set();
      named(whole, found);
      for (const one of found) {
        const isDeclared = one.declarations?.some((part) => isOurs(part) && !ts.isTypeParameterDeclaration(part));
        if (isDeclared && !importable.has(one) && !unnamed.has(one.name))
          lost.set(one.name, [...(lost.get(one.name) ?? []), `${name} ${symbol.name}`]);
      }
    }
  }
}

const text = `${lines.join("\n")}\n`;
for (const [type, users] of lost)
  console.error(`${type} cannot be imported, and is named by ${users.slice(0, 3).join(", ")}`);
if (process.argv.includes("--write")) writeFileSync(file, text);
else if (!existsSync(file) || readFileSync(file, "utf8") !== text) {
  console.error("The public surface has changed: look at the difference of `npm run api -- --write`, and commit it.");
  process.exit(1);
}
console.log(`${importable.size} public names`);
process.exit(lost.size > 0 ? 1 : 0);
