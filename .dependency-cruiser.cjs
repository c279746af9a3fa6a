// The layers of the source, from the bottom up. An arrow may lead down this list, never up, and never round in a circle.
const layers = [
  "schema",
  "conditions",
  "rules",
  "session",
  "define",
  "explain",
  "ranges",
  "snapshot",
  "compiled",
  "sql",
  "database",
  "import",
  "http",
  "adapters",
  "verify",
  "report",
  "people",
  "workbook",
  "document",
  "directory",
  "tooling",
  "cli",
];

const upward = layers.slice(0, -1).map((name, index) => ({
  name: `${name}-imports-down-only`,
  severity: "error",
  from: { path: `^src/${name}/` },
  to: { path: `^src/(${layers.slice(index + 1).join("|")})/` },
}));

module.exports = {
  forbidden: [
    ...upward,
    { name: "no-circles", severity: "error", from: {}, to: { circular: true } },
    {
      name: "the-core-imports-nothing-from-outside",
      severity: "error",
      from: {
        path: "^src/(schema|conditions|rules|session|define|explain|ranges|snapshot|compiled|sql|database|verify|report|people|http)/",
      },
      to: { dependencyTypesNot: ["local", "type-only"], pathNot: "^src/" },
    },
    {
      name: "inside-the-package-import-the-file",
      comment: "An index is for those outside.",
      severity: "error",
      from: { path: "^src/" },
      to: { path: "^src/[a-z]*/?index[.]ts$" },
    },
    {
      name: "examples-and-inspector-use-the-public-names",
      severity: "error",
      from: { path: "^(examples|inspector)/" },
      to: { path: "^src/", pathNot: "^src/([a-z]*/?index|adapters/[a-z0-9]+)[.]ts$" },
    },
    { name: "nothing-unresolved", severity: "error", from: {}, to: { couldNotResolve: true } },
  ],
  options: {
    doNotFollow: { path: "node_modules" },
    tsConfig: { fileName: "tsconfig.json" },
    tsPreCompilationDeps: true,
    enhancedResolveOptions: { exportsFields: ["exports"], conditionNames: ["import", "types", "default"] },
    moduleSystems: ["es6", "cjs"],
  },
};
