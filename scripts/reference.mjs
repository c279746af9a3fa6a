// Writes the pages that follow from the code: the keys of a document, from its JSON Schema, and the commands, from their
// help. Without --write it says whether they are as they would be written.
import { spawnSync } from "node:child_process";
import { readFileSync, writeFileSync } from "node:fs";
import { fileURLToPath } from "node:url";

const root = fileURLToPath(new URL("..", import.meta.url));
const schema = JSON.parse(readFileSync(`${root}schema/portier.schema.json`, "utf8"));

const pages = { "docs/reference/document.md": documentPage(), "docs/reference/commands.md": commandsPage() };
const isWriting = process.argv.includes("--write");
let isStale = false;
for (const [path, text] of Object.entries(pages)) {
  if (isWriting) writeFileSync(`${root}${path}`, text);
  else if (readFileSync(`${root}${path}`, "utf8") !== text) {
    isStale = true;
    console.error(`${path} is not as the code says: node scripts/reference.mjs --write`);
  }
}
process.exitCode = isStale ? 1 : 0;

/** The keys of a document, part by part. */
function documentPage() {
  const { rule, people, settings, table, field } = schema.$defs;
  const parts = [
    ["A document", schema, "At the top of a rules file."],
    ["people", people, "The table of users, and where their roles come from."],
    ["people.settings", settings, "What one person may do with one field, as data: see [settings](../settings.md)."],
    ["roles.NAME", valuesOf(schema.properties.roles), "A role."],
    ["groups.NAME", valuesOf(schema.properties.groups), "A group."],
    ["screens.NAME", valuesOf(schema.properties.screens), "A screen: see [screens](../screens.md)."],
    ["tables.NAME", table, "A table."],
    [
      "tables.NAME.fields.NAME",
      field,
      "A field. Where it has a type alone, the type stands in its place: `title: text`.",
    ],
    ["tables.NAME.rules.NAME", rule, "A rule: see [what rules mean](../model.md)."],
  ];
  return `# Keys of a document

Every key that a rules file may hold. This page is made from the [JSON Schema](https://json-schema.org) of the format, which the package
ships as \`portier/schema.json\`: an editor that is pointed to it completes the same keys.

${parts.map(([name, part, says]) => section(name, part, says)).join("\n")}`;
}

function section(name, part, says) {
  const rows = objectsOf(part).flatMap(({ properties = {}, required = [] }) =>
    Object.entries(properties).map(([key, value]) => {
      const isNeeded = required.includes(key) ? " (needed)" : "";
      return `| \`${key}\`${isNeeded} | ${typeOf(value)} | ${descriptionOf(value)} |`;
    }),
  );
  return `## ${name}\n\n${says}\n\n| key | type | what it says |\n| --- | --- | --- |\n${rows.join("\n")}\n`;
}

/** What each value of an object with free names is. */
function valuesOf({ additionalProperties }) {
  return resolved(additionalProperties);
}

function resolved(part) {
  return part.$ref === undefined ? part : { ...schema.$defs[part.$ref.split("/").pop()], ...part };
}

/** The objects that a part can be. */
function objectsOf(part) {
  const own = resolved(part);
  if (own.properties !== undefined) return [own];
  return [...(own.oneOf ?? []), ...(own.anyOf ?? [])].flatMap(objectsOf).slice(0, 1);
}

function typeOf(part) {
  if (part.const !== undefined) return `\`${part.const}\``;
  if (part.enum !== undefined) return part.enum.map((one) => `\`${one}\``).join(", ");
  const named = {
    name: "name",
    names: "name or list of names",
    someNames: "list of names",
    condition: "[condition](../model.md#conditions)",
    extents: "action to extent",
    fieldExtent: "extent",
    ignore: "warning to reason",
  }[part.$ref?.split("/").pop()];
  if (named !== undefined) return named;
  const own = resolved(part);
  if (Array.isArray(own.type)) return own.type.join(" or ");
  if (own.type === "object" && own.additionalProperties) return "name to value";
  if (own.type !== undefined) return own.type;
  return [...new Set((own.oneOf ?? own.anyOf ?? []).map(typeOf))].filter((type) => type !== "").join(" or ");
}

function descriptionOf(part) {
  return (part.description ?? resolved(part).description ?? "").replaceAll("|", "\\|").replaceAll("\n", " ");
}

/** What each command says of itself. */
function commandsPage() {
  const help = (...words) => {
    const { stdout } = spawnSync(process.execPath, [`${root}dist/cli/main.js`, ...words, "--help"], {
      encoding: "utf8",
      env: { ...process.env, COLUMNS: "110", NO_COLOR: "1" },
    });
    return stdout.trimEnd();
  };
  const all = help();
  const names = [...all.matchAll(/^ {2}([a-z]+) (?:\[options\] )?[<[]/gm)].map(([, name]) => name);
  const each = names.map((name) => `## ${name}\n\n\`\`\`text\n${help(name)}\n\`\`\`\n`);
  return `# Commands

What \`portier COMMAND --help\` prints.

\`\`\`text
${all}
\`\`\`

${each.join("\n")}`;
}
