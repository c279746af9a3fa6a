import { readdirSync, readFileSync } from "node:fs";
import { basename, dirname, join } from "node:path";
import { stringify } from "yaml";
import type { Data } from "../document/data.js";
import { parsePlaced } from "../document/parse-document.js";
import { type Locate, type Path, PortierError } from "../schema/problems.js";
import { isMapping } from "../schema/reader.js";
import type { Portier } from "../session/portier.js";
import type { ExpectationData } from "../verify/expectations/asked.js";
import { coverageOf, type RuleCoverage } from "../verify/expectations/coverage.js";
import type { Expectation } from "../verify/expectations/expectation.js";
import { proposeExpectations } from "../verify/expectations/propose.js";
import { placeText, readExpectations } from "../verify/expectations/read-expectations.js";
import { type ExpectationResult, runExpectations } from "../verify/expectations/run-expectations.js";
import { findUnnoticed, type MutationRun } from "../verify/unnoticed.js";
import { personViewers } from "../verify/viewers.js";
import type { CliCommand } from "./command.js";
import { CliError, type ExitCode, type Io } from "./io.js";
import { dataFolder, loadData, loadDocument, rolesFile, type SessionFlags, sessionOptions } from "./load.js";
import { palette } from "./paint.js";

interface TestOptions extends SessionFlags {
  readonly data?: string;
  readonly explain?: true;
  readonly coverage?: true;
  readonly mutate?: true;
  readonly record?: true;
  readonly format: "text" | "json" | "junit";
}

/** The results of one file, with the places of what they are about. */
interface TestedFile {
  readonly file: string;
  readonly locate: Locate;
  readonly results: readonly ExpectationResult[];
}

export const testCommand: CliCommand = {
  usage: "test <file> [expectations...]",
  summary: "whether the rules come to what was expected of them; exit code 1 where they do not",
  formats: ["text", "json", "junit"],
  declare: (command) => {
    command
      .option("--data <folder>", "records as TABLE.json (default: the folder data beside FILE)")
      .option("--explain", "say why, for each expectation that is not met")
      .option("--coverage", "which rules, entries, conditions and fields the expectations have exercised")
      .option("--record", "write expectations that say what holds now, for people to review, to standard output")
      .option("--mutate", "change the rules one small step at a time: which changes does no expectation notice?")
      .addHelpText(
        "after",
        "\nWithout EXPECTATIONS: NAME.expect.yaml and NAME.ANYTHING.expect.yaml beside NAME.portier.yaml.",
      );
  },
  run: ([file = "", ...files], options, io) =>
    runTest(
      file,
      (files.flat() as (string | undefined)[]).filter((one) => one !== undefined),
      options as unknown as TestOptions,
      io,
    ),
};

function runTest(file: string, files: readonly string[], options: TestOptions, io: Io): ExitCode {
  const { portier } = loadDocument(file);
  const folder = dataFolder(file, options.data);
  if (folder === undefined) throw new CliError("expectations need records: name their folder with --data");
  const data = loadData(portier, folder, rolesFile(file));
  const shared = sessionOptions(portier, options, data.source, io);
  const asked = {
    source: data.source,
    records: (table: string) => data.tables.get(table) ?? [],
    options: { request: shared.request, report: shared.report },
  };
  if (options.record) {
    io.out(recorded(portier, data, asked));
    return 0;
  }
  const names = files.length === 0 ? beside(file) : files;
  if (options.coverage) return runCoverage(portier, file, names, asked, options, io);
  if (options.mutate) return runMutations(file, names, asked, data, options, io);
  const tested = names.map((name) => testFile(portier, name, asked));
  if (options.format === "json") io.out(`${JSON.stringify({ files: tested.map(jsonFile) }, null, 2)}\n`);
  else if (options.format === "junit") io.out(junit(tested));
  else printResults(tested, options.explain === true, io);
  return tested.every(({ results }) => results.every(({ passed }) => passed)) ? 0 : 1;
}

/** The expectations beside a document: `museum.expect.yaml`, `museum.loans.expect.yaml` for `museum.portier.yaml`. */
function beside(file: string): string[] {
  const name = basename(file).replace(/(?:\.portier)?\.(?:ya?ml|json)$/, "");
  const found = readdirSync(dirname(file))
    .filter((one) => one.startsWith(`${name}.`) && one.endsWith(".expect.yaml"))
    .sort();
  if (found.length > 0) return found.map((one) => join(dirname(file), one));
  throw new CliError(`there is no ${join(dirname(file), `${name}.expect.yaml`)}: name a file of expectations`);
}

/** What holds now as a file of expectations; nothing is written over. */
function recorded(portier: Portier, data: Data, { options, records }: ExpectationData): string {
  const rows = (portier.schema.people && data.tables.get(portier.schema.people.table.name)) ?? [];
  const viewers = personViewers(portier, rows, { ...options, source: data.source });
  const groups = proposeExpectations(portier, viewers, records).map(({ persons: [first = "", ...more], proposals }) => {
    const alike = more.length === 0 ? "" : `, and the same for ${more.join(", ")}`;
    return `  # ${first}${alike}\n${proposals.map((one) => `  - ${flow(one)}`).join("\n")}\n`;
  });
  return `# What held when this was recorded. Read it: what is wrong is taken out, and the rules are mended.\nexpectations:\n${groups.join("\n")}`;
}

function flow(value: object): string {
  return stringify(value, { collectionStyle: "flow", lineWidth: 0 }).trim();
}

/** Says what of the rules the expectations have exercised; a rule that never applied is found, and ends with 1. */
function runCoverage(
  portier: Portier,
  file: string,
  names: readonly string[],
  asked: ExpectationData,
  { format }: TestOptions,
  io: Io,
): ExitCode {
  const { parsed } = loadDocument(file);
  const expectations = names.flatMap((name) => {
    const { value, locate } = parsePlaced(readText(name), { file: name });
    return readExpectations(portier, value, locate);
  });
  const rules = coverageOf(portier, expectations, asked);
  const place = ({ path }: RuleCoverage) => placeText(parsed.locate, path, file);
  const applied = rules.filter((rule) => rule.applied).length;
  if (format === "json") {
    io.out(`${JSON.stringify({ rules: rules.map((rule) => ({ place: place(rule), ...rule })) }, null, 2)}\n`);
  } else {
    const paint = palette(io);
    for (const rule of rules) {
      const open = notExercised(rule);
      if (open.length === 0) continue;
      io.out(`${rule.applied ? paint.doubt("partly") : paint.no("never ")}  ${place(rule)}  ${rule.rule}\n`);
      for (const line of open) io.out(`        ${line}\n`);
    }
    const whole = rules.filter((rule) => notExercised(rule).length === 0).length;
    io.out(`${rules.length} rules: ${applied} applied, ${whole} of them exercised in every part\n`);
  }
  return applied === rules.length ? 0 : 1;
}

function notExercised({ applied, who, isForAnyone, entriesNotMet, where, fieldsNotAsked }: RuleCoverage): string[] {
  const outcomes = where === undefined ? [] : (["true", "false"] as const).filter((one) => !where[one]);
  return [
    ...(applied ? [] : ["it bore on no answer"]),
    ...(who.met ? [] : ["nobody whom it is for was asked about"]),
    ...(who.notMet || isForAnyone || entriesNotMet.length > 0 ? [] : ["nobody whom it is not for was asked about"]),
    ...(entriesNotMet.length === 0 ? [] : [`nobody met: ${entriesNotMet.join(", ")}`]),
    ...outcomes.map((one) => `its condition was never ${one}`),
    ...(fieldsNotAsked.length === 0 ? [] : [`not asked about: ${fieldsNotAsked.join(", ")}`]),
  ];
}

/** Tries small mistakes in the rules on the expectations, and lists those that go unnoticed. */
function runMutations(
  file: string,
  names: readonly string[],
  { options: opened }: ExpectationData,
  data: Data,
  { format }: TestOptions,
  io: Io,
): ExitCode {
  const { portier, parsed } = loadDocument(file);
  const texts = names.map((name) => ({ name, ...parsePlaced(readText(name), { file: name }) }));
  const sourceOf = (one: Portier) => one.source(Object.fromEntries(data.tables));
  const records = (table: string) => data.tables.get(table) ?? [];
  const rows = (portier.schema.people && data.tables.get(portier.schema.people.table.name)) ?? [];
  const run = findUnnoticed(parsed.document, portier, {
    read: (one) => texts.flatMap(({ value, locate }) => readKnown(one, value, locate)),
    data: (one) => ({ source: sourceOf(one), records, ...(opened === undefined ? {} : { options: opened }) }),
    viewers: (one) => personViewers(one, rows, { ...opened, source: sourceOf(one) }),
    records,
    onTried: (tried, all) => {
      if (tried % 50 === 0 || tried === all) io.err(`${tried} of ${all} changes tried\n`);
    },
  });
  const place = (path: Path) => placeText(parsed.locate, path, file);
  if (format === "json") {
    const told = run.unnoticed.map(({ mutation: { path, rule, what }, gained, samples }) => ({
      ...{ place: place(path), rule, what, gained, samples },
    }));
    io.out(`${JSON.stringify({ tried: run.tried, noticed: run.noticed, unnoticed: told }, null, 2)}\n`);
  } else printUnnoticed(run, place, io);
  return run.unnoticed.length === 0 ? 0 : 1;
}

function printUnnoticed(
  { tried, noticed, without, unnoticed }: MutationRun,
  place: (path: Path) => string,
  io: Io,
): void {
  const paint = palette(io);
  for (const { mutation, kind, samples } of unnoticed) {
    const [first] = samples;
    io.out(`${paint.doubt("unnoticed")}  ${place(mutation.path)}  ${mutation.rule}: ${mutation.what}\n`);
    const { persons, gain } = first ?? {};
    const said =
      persons === undefined || gain === undefined
        ? kind === "loss"
          ? "somebody loses something by it"
          : "what a change may lead to is different"
        : `${persons.slice(0, 3).join(", ")}${persons.length > 3 ? ` and ${persons.length - 3} more` : ""} would ${gain.actions.join(", ")} ${gain.fields.join(", ")} of ${gain.records ?? "new"} ${gain.table}`;
    io.out(`           ${said}\n`);
  }
  const rest = without.length === 0 ? "" : `, ${without.length} change nothing on these records`;
  io.out(`${tried} changes tried: ${noticed} noticed, ${unnoticed.length} unnoticed${rest}\n`);
}

/** Expectations as they can be asked of a changed document; a rule that is gone is named by none. */
function readKnown(portier: Portier, value: unknown, locate: Locate): readonly Expectation[] {
  try {
    return readExpectations(portier, value, locate);
  } catch (error) {
    if (!(error instanceof PortierError) || !isMapping(value) || !Array.isArray(value["expectations"])) throw error;
    const lost = new Set(error.problems.map(({ path }) => path[1]));
    const left = value["expectations"].map((one, index) => (lost.has(index) ? { ...one, by: undefined } : one));
    return readExpectations(portier, { expectations: left }, locate);
  }
}

function readText(file: string): string {
  try {
    return readFileSync(file, "utf8");
  } catch {
    throw new CliError(`cannot read ${file}`);
  }
}

function testFile(portier: Portier, file: string, data: ExpectationData): TestedFile {
  const { value, locate } = parsePlaced(readText(file), { file });
  const expectations = readExpectations(portier, value, locate);
  return { file, locate, results: runExpectations(portier, expectations, data) };
}

function printResults(tested: readonly TestedFile[], isExplained: boolean, io: Io): void {
  const paint = palette(io);
  for (const { file, locate, results } of tested) {
    for (const [first, ...more] of alike(results.filter(({ passed }) => !passed))) {
      if (first === undefined) continue;
      const { path, name, what, expected, found, why } = first;
      io.out(`${paint.no("not met")}  ${placeText(locate, path, file)}  ${what}\n`);
      if (name !== undefined) io.out(`         ${paint.quiet(name)}\n`);
      io.out(`         expected ${expected}, found ${found}\n`);
      if (more.length > 0) io.out(`         the same on ${more.length} more records: ${recordList(more)}\n`);
      if (isExplained && why !== undefined) io.out(`${indented(why)}\n`);
    }
  }
  const all = tested.flatMap(({ results }) => results);
  const open = all.filter(({ passed }) => !passed).length;
  const sum = `${all.length - open} met, ${open} not met`;
  io.out(`${open === 0 ? paint.yes(sum) : paint.no(sum)}\n`);
}

/** Results of one check that came out alike on several records. */
function alike(results: readonly ExpectationResult[]): ExpectationResult[][] {
  const groups = new Map<string, ExpectationResult[]>();
  for (const result of results) {
    const { path, record = "", what, expected, found } = result;
    const key = JSON.stringify([path, what.replace(record, ""), expected, found]);
    groups.set(key, [...(groups.get(key) ?? []), result]);
  }
  return [...groups.values()];
}

function recordList(results: readonly ExpectationResult[]): string {
  const shown = results.slice(0, 3).map(({ record }) => record);
  return `${shown.join(", ")}${results.length > shown.length ? ", ..." : ""}`;
}

function indented(text: string): string {
  return text
    .trimEnd()
    .split("\n")
    .map((line) => `         | ${line}`.trimEnd())
    .join("\n");
}

function jsonFile({ file, locate, results }: TestedFile) {
  return { file, results: results.map(({ path, ...result }) => ({ place: placeText(locate, path, file), ...result })) };
}

/** For what gathers the results of tests: JUnit's XML, without times, so that equal results are equal files. */
function junit(tested: readonly TestedFile[]): string {
  const suites = tested.map(({ file, locate, results }) => {
    const cases = results.map(({ path, name, what, passed, expected, found, why }) => {
      const place = placeText(locate, path, file);
      const open = `    <testcase classname="${xml(name ?? basename(file))}" name="${xml(`${place} ${what}`)}"`;
      if (passed) return `${open}/>`;
      const message = xml(`expected ${expected}, found ${found}`);
      return `${open}>\n      <failure message="${message}">${xml(`${place}\n${why ?? ""}`)}</failure>\n    </testcase>`;
    });
    const failures = results.filter(({ passed }) => !passed).length;
    const head = `  <testsuite name="${xml(file)}" tests="${results.length}" failures="${failures}">`;
    return `${head}\n${cases.join("\n")}\n  </testsuite>`;
  });
  return `<?xml version="1.0" encoding="UTF-8"?>\n<testsuites>\n${suites.join("\n")}\n</testsuites>\n`;
}

function xml(text: string): string {
  const names: Readonly<Record<string, string>> = { "&": "&amp;", "<": "&lt;", ">": "&gt;", '"': "&quot;" };
  return text
    .replace(/[&<>"]/g, (sign) => names[sign] ?? sign)
    .replace(/[^\t\n\r\u0020-\uD7FF\uE000-\uFFFD]/g, "\uFFFD");
}
