import { execFileSync } from "node:child_process";
import { existsSync, readFileSync } from "node:fs";
import { basename, dirname } from "node:path";
import { Option } from "commander";
import type { Data } from "../document/data.js";
import { compileText } from "../document/parse-document.js";
import { findTable } from "../schema/schema.js";
import type { Portier } from "../session/portier.js";
import { declaredGains } from "../verify/declared-gains.js";
import { type AccessChange, diffAccess, type SharedDifference } from "../verify/gains.js";
import { type RuleDifference, ruleDifferences } from "../verify/rule-differences.js";
import { personViewers, roleViewers } from "../verify/viewers.js";
import { accessCells, accessHeadings } from "./access-lines.js";
import { columns } from "./columns.js";
import type { CliCommand } from "./command.js";
import { databaseAddresses } from "./database.js";
import { CliError, type ExitCode, type Io } from "./io.js";
import { loadDocument, type SessionFlags, sessionOptions } from "./load.js";
import { palette } from "./paint.js";
import { withRecords } from "./records.js";

interface DiffOptions extends SessionFlags {
  readonly data?: string;
  readonly accept?: string;
  readonly format: "text" | "json" | "markdown";
}

export const diffCommand: CliCommand<DiffOptions> = {
  usage: "diff <old> <new>",
  summary: "Show who gains and loses access by a change of the rules; exit code 1 for a gain that was not accepted",
  formats: ["text", "json", "markdown"],
  declare: (command) => {
    command
      .option(
        "--data <folder or database>",
        `records as TABLE.json or TABLE.csv, for counts (default: the folder data beside NEW), or ${databaseAddresses}`,
      )
      .addOption(new Option("--accept <file>", "a file of accepted gains: sentences as they are printed, one a line"))
      .addHelpText("after", "\nOLD is a file, or a file of an earlier git revision: HEAD~1:museum.portier.yaml");
  },
  run: ([old = "", file = ""], options, io) => runDiff(old, file, options, io),
};

/** A gain as a sentence that can be accepted. */
interface Gain {
  readonly sentence: string;
  readonly isAccepted: boolean;
}

function runDiff(old: string, file: string, options: DiffOptions, io: Io): ExitCode | Promise<ExitCode> {
  const before = earlierDocument(old);
  const { portier: after } = loadDocument(file);
  return withRecords(after, file, options.data, (data) =>
    printDifferences(
      before,
      after,
      data === undefined ? [] : peopleDifferences(before, after, data, options, io),
      options,
      io,
    ),
  );
}

function printDifferences(
  before: Portier,
  after: Portier,
  people: readonly SharedDifference[],
  options: DiffOptions,
  io: Io,
): ExitCode {
  const viewersOf = (portier: Portier) => roleViewers(portier, sessionOptions(portier, options, undefined, io));
  const rules = ruleDifferences(viewersOf(before), viewersOf(after));
  const accepted = acceptedSentences(options.accept);
  const declared = declaredGains(before.schema, after.schema);
  const gains = [
    ...declared,
    ...people.flatMap(({ persons, gains: lines }) => lines.map((line) => gainSentence(persons, line))),
    // What a role may do more is a gain by itself where no record at hand shows it, or none could.
    ...rules
      .filter((one) => (one.isTentative ? one.after !== "none" : one.change !== "less" && !isShown(one, people)))
      .map(ruleSentence),
  ].map((sentence): Gain => ({ sentence, isAccepted: accepted.has(sentence) }));
  if (options.format === "json") io.out(`${JSON.stringify({ people, rules, declared, gains }, null, 2)}\n`);
  else if (options.format === "markdown") io.out(markdown(people, rules, declared, gains));
  else printText(people, rules, declared, gains, io);
  const open = gains.filter(({ isAccepted }) => !isAccepted).length;
  if (open > 0) io.err(`${open} gain${open === 1 ? " is" : "s are"} not accepted\n`);
  return open > 0 ? 1 : 0;
}

/** A document from a file, or from an earlier revision of it in git: `REVISION:FILE`. */
function earlierDocument(name: string): Portier {
  const [, revision, path] = /^([^:]+):(.+)$/.exec(name) ?? [];
  if (existsSync(name) || revision === undefined || path === undefined) return loadDocument(name).portier;
  let text: string;
  try {
    const words = ["-C", dirname(path), "show", `${revision}:./${basename(path)}`];
    text = execFileSync("git", words, { encoding: "utf8", stdio: ["ignore", "pipe", "pipe"], maxBuffer: 1 << 28 });
  } catch (error) {
    const { stderr, message } = error as { stderr?: string; message: string };
    throw new CliError(`git does not have ${name}: ${(stderr || message).trim().split("\n")[0]}`);
  }
  return compileText(text, { file: name });
}

/** What everybody of the data gains and loses. */
function peopleDifferences(
  before: Portier,
  after: Portier,
  { tables }: Data,
  options: DiffOptions,
  io: Io,
): SharedDifference[] {
  const viewersOf = (portier: Portier) => {
    // Records are as the new document has them; of tables that one of the two does not have, it knows nothing.
    const known = [...tables].filter(([name]) => findTable(portier.schema, name) !== undefined);
    const source = portier.source(Object.fromEntries(known));
    const { people } = portier.schema;
    const rows = (people && tables.get(people.table.name)) ?? [];
    return personViewers(portier, rows, { ...sessionOptions(portier, options, source, io), source });
  };
  return diffAccess(viewersOf(before), viewersOf(after), (table) => tables.get(table) ?? []);
}

function acceptedSentences(file: string | undefined): Set<string> {
  if (file === undefined) return new Set();
  let text: string;
  try {
    text = readFileSync(file, "utf8");
  } catch {
    throw new CliError(`cannot read ${file}`);
  }
  const lines = text.split(/\r?\n/).map((line) => line.trim());
  return new Set(lines.filter((line) => line !== "" && !line.startsWith("#")));
}

/** The whole gain, so that one which grows has to be accepted again. */
function gainSentence(persons: readonly string[], line: AccessChange): string {
  const what = line.fields.length === 0 ? "" : ` ${line.fields.join(", ")}`;
  const count = line.records === undefined ? "of new records" : `on ${line.records} of ${line.of}`;
  return `${persons.join(", ")}: ${line.actions.join(", ")} ${line.table}${what} ${count}`;
}

function ruleSentence({ who, actions, table, fields, before, after, change, isTentative }: RuleDifference): string {
  const what = fields.length === 0 ? "" : ` ${fields.join(", ")}`;
  const other = isTentative ? "to another end" : "by other conditions";
  const how = change === "other" ? other : `${before} -> ${after}${isTentative ? ", to another end" : ""}`;
  return `${who.join(", ")}: ${actions.join(", ")} ${table}${what} ${how}`;
}

/** Whether people gain or lose something of it on the records at hand. */
function isShown({ table, actions, fields }: RuleDifference, people: readonly SharedDifference[]): boolean {
  const lines = people.flatMap(({ gains, losses }) => [...gains, ...losses]).filter((line) => line.table === table);
  return actions.every((action) => {
    const told = lines.filter((line) => line.actions.includes(action));
    return told.length > 0 && fields.every((field) => told.some((line) => line.fields.includes(field)));
  });
}

const mostPersons = 4;

function personsText(persons: readonly string[]): string {
  const [first, more] = [persons.slice(0, mostPersons), persons.length - mostPersons];
  return `${first.join(", ")}${more > 0 ? ` and ${more} more` : ""}`;
}

function printText(
  people: readonly SharedDifference[],
  rules: readonly RuleDifference[],
  declared: readonly string[],
  gains: readonly Gain[],
  io: Io,
): void {
  const paint = palette(io);
  if (people.length + rules.length + declared.length === 0) {
    io.out(`${paint.yes("same")}  nobody gains or loses anything\n`);
    return;
  }
  const blocks = people.map(({ persons, gains: more, losses }) => ({
    title: personsText(persons),
    body: [
      ...more.map((line) => accessCells(paint.yes("+"), line)),
      ...losses.map((line) => accessCells(paint.no("-"), line)),
    ],
  }));
  // Blocks stand under each other column by column.
  const widths = [1, 2, 3, 4].map((at) =>
    Math.max(...blocks.flatMap(({ body }) => body.map((cells) => cells[at]?.length ?? 0))),
  );
  for (const { title, body } of blocks) {
    io.out(`${paint.heading(title)}\n`);
    const headings = ["", ...accessHeadings.map(paint.quiet)];
    io.out(`${columns(headings, body, io.width, [1, ...widths])}\n`);
  }
  if (rules.length > 0) {
    io.out(`${paint.heading("by the rules, whatever is stored")}\n`);
    const marks = { more: paint.yes("+"), less: paint.no("-"), other: paint.warning("?") };
    const body = rules.map((one) => [
      marks[one.change],
      one.who.join(", "),
      one.table,
      one.actions.join(", "),
      one.change === "other"
        ? one.isTentative
          ? "to another end"
          : "other conditions"
        : `${one.before} -> ${one.after}`,
      one.fields.join(", ") || "the record",
    ]);
    io.out(`${columns(["", "who", "table", "action", "reach", "what"].map(paint.quiet), body, io.width)}\n`);
  }
  if (declared.length > 0) {
    io.out(`${paint.heading("besides the rules")}\n`);
    for (const sentence of declared) io.out(`${paint.yes("+")}  ${sentence}\n`);
    io.out("\n");
  }
  const open = gains.filter(({ isAccepted }) => !isAccepted);
  if (open.length === 0) return;
  io.out(`${paint.warning("not accepted")}  add these lines to the file of --accept if they are intended:\n`);
  for (const { sentence } of open) io.out(`${sentence}\n`);
}

/** For a pull request. */
function markdown(
  people: readonly SharedDifference[],
  rules: readonly RuleDifference[],
  declared: readonly string[],
  gains: readonly Gain[],
): string {
  const open = gains.filter(({ isAccepted }) => !isAccepted).length;
  const cell = (text: string) => text.replaceAll("|", "\\|");
  const head = `## Who gains and loses what\n\n${open === 0 ? "No gain that was not accepted." : `**${open} not accepted.**`}\n`;
  const tables = people.map(({ persons, gains: more, losses }) => {
    const row = (mark: string, line: AccessChange) =>
      `| ${accessCells(mark, line, "**sensitive** ").map(cell).join(" | ")} |`;
    const rows = [...more.map((line) => row("gains", line)), ...losses.map((line) => row("loses", line))];
    return `\n### ${personsText(persons)}\n\n| | table | action | records | what | such as |\n|---|---|---|---|---|---|\n${rows.join("\n")}\n`;
  });
  const lines = rules.map((one) => `- ${cell(ruleSentence(one))}`);
  const byRules = lines.length === 0 ? "" : `\n### By the rules, whatever is stored\n\n${lines.join("\n")}\n`;
  const besides =
    declared.length === 0 ? "" : `\n### Besides the rules\n\n${declared.map((one) => `- ${cell(one)}`).join("\n")}\n`;
  return `${head}${tables.join("")}${byRules}${besides}`;
}
