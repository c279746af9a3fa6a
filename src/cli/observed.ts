import { readFileSync } from "node:fs";
import { Document, visit } from "yaml";
import { isMapping } from "../schema/reader.js";
import type { Observation } from "../session/observation.js";
import { type ObservedRefusal, type ProposedRule, summarizeObserved } from "../verify/observed.js";
import { columns } from "./columns.js";
import type { CliCommand } from "./command.js";
import { CliError, type ExitCode, type Io } from "./io.js";
import { palette } from "./paint.js";

interface ObservedOptions {
  readonly format: "text" | "json";
}

export const observedCommand: CliCommand<ObservedOptions> = {
  usage: "observed <log>",
  summary: "Summarize what rules on observed tables would have refused, to whom, and which rules would permit it",
  declare: () => {},
  run: ([file = ""], options, io) => runObserved(file, options, io),
};

function runObserved(file: string, { format }: ObservedOptions, io: Io): ExitCode {
  const observations = readLog(file);
  const summary = summarizeObserved(observations);
  const found = summary.refusals.length > 0 ? 1 : 0;
  if (format === "json") {
    io.out(`${JSON.stringify(summary, null, 2)}\n`);
    return found;
  }
  const paint = palette(io);
  if (found === 0) {
    io.out("Nothing was observed that would be refused.\n");
    return 0;
  }
  const [first, last] = [observations[0], observations[observations.length - 1]] as [Observation, Observation];
  const day = ({ at }: Observation) => at.slice(0, 16).replace("T", " ");
  io.out(`${paint.heading(`${file}: ${observations.length} observations`)}, ${day(first)} to ${day(last)}\n\n`);
  const headings = ["table", "action", "fields", "calls", "records", "of whom", "why"].map(paint.quiet);
  io.out(`${columns(headings, summary.refusals.map(lineOf), io.width)}\n`);
  if (summary.proposals.length > 0) {
    io.out(`${paint.heading("Rules that would permit what none permits")}\n`);
    io.out(`${paint.quiet("Keep those that say what is meant; what is not meant will be refused.")}\n\n`);
    io.out(yamlOf(summary.proposals));
  }
  if (summary.ofNoRole.length > 0) {
    io.out(`\n${paint.heading("Of people without a role, and of visitors")}\n`);
    io.out(`${paint.quiet("Give them a role, or let it be refused.")}\n\n`);
    const body = summary.ofNoRole.map((one) => [
      one.table,
      one.action,
      fieldsText(one),
      String(one.calls),
      peopleText(one),
    ]);
    io.out(columns(["table", "action", "fields", "calls", "of whom"].map(paint.quiet), body, io.width));
  }
  return found;
}

function readLog(file: string): Observation[] {
  let text: string;
  try {
    text = readFileSync(file, "utf8");
  } catch {
    throw new CliError(`"${file}" cannot be read`);
  }
  return text.split("\n").flatMap((line, index): Observation[] => {
    if (line.trim() === "") return [];
    const found = parsed(line);
    if (isObservation(found)) return [found];
    throw new CliError(`${file}:${index + 1}: this line is not an observation; write the log with observedFile`);
  });
}

function parsed(line: string): unknown {
  try {
    return JSON.parse(line);
  } catch {
    return undefined;
  }
}

function isObservation(value: unknown): value is Observation {
  if (!isMapping(value)) return false;
  const isText = (name: string) => typeof value[name] === "string";
  const isList = (name: string) => Array.isArray(value[name]) && value[name].every((one) => typeof one === "string");
  return (
    ["at", "table", "action", "reason"].every(isText) &&
    ["roles", "fields", "keys"].every(isList) &&
    typeof value["records"] === "number" &&
    typeof value["own"] === "boolean" &&
    [value["person"], value["rule"]].every((one) => one === null || typeof one === "string")
  );
}

const reasons: Readonly<Record<Observation["reason"], string>> = {
  denied: "denied",
  reserved: "reserved",
  "not-permitted": "no rule permits it",
  "not-found": "the record is not known to them",
  fault: "deciding failed",
  unconfirmed: "to be confirmed first",
  hidden: "a statement may hide it",
};

function lineOf(one: ObservedRefusal): string[] {
  const why = one.rule === null ? reasons[one.reason] : `${reasons[one.reason]}: ${one.rule}`;
  const records = one.records === 0 ? "-" : String(one.records);
  return [one.table, one.action, fieldsText(one), String(one.calls), records, peopleText(one), why];
}

function fieldsText({ fields }: ObservedRefusal): string {
  return fields.length === 0 ? "(as a whole)" : fields.join(", ");
}

function peopleText({ people, roles }: ObservedRefusal): string {
  const named = people.slice(0, 3).map((one) => one ?? "a visitor");
  const more = people.length > 3 ? ` and ${people.length - 3} more` : "";
  return `${named.join(", ")}${more}${roles.length === 0 ? "" : ` (${roles.join(", ")})`}`;
}

function yamlOf(proposals: readonly ProposedRule[]): string {
  const tables = new Map<string, Record<string, object>>();
  for (const { table, name, rule } of proposals) {
    const rules = tables.get(table) ?? {};
    tables.set(table, rules);
    rules[name] = rule;
  }
  const written = Object.fromEntries([...tables].map(([table, rules]) => [table, { rules }]));
  const document = new Document({ tables: written });
  visit(document, {
    Seq: (_, list) => {
      list.flow = true;
    },
  });
  return document.toString({ lineWidth: 100, flowCollectionPadding: false });
}
