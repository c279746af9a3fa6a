import { basename } from "node:path";
import type { Locate } from "../../schema/problems.js";
import { placeText } from "../../verify/expectations/read-expectations.js";
import { type ExpectationResult, runExpectations } from "../../verify/expectations/run-expectations.js";
import type { ExitCode, Io } from "../io.js";
import { palette } from "../paint.js";
import { sarif } from "../sarif.js";
import { expectationsOf } from "./expectation-files.js";
import { askedOf, type Testing } from "./testing.js";

/** The results of one file, with the places of what they are about. */
interface TestedFile {
  readonly file: string;
  readonly locate: Locate;
  readonly results: readonly ExpectationResult[];
}

export const resultFormats = ["text", "json", "junit", "sarif"] as const;

/** Runs expectations and prints their results; 1 where one fails. */
export function runAll(
  testing: Testing,
  format: (typeof resultFormats)[number] | "html",
  isExplained: boolean,
  io: Io,
): ExitCode {
  const data = askedOf(testing, testing.portier);
  const tested = testing.files.map((one): TestedFile => {
    const results = runExpectations(testing.portier, expectationsOf(testing.portier, one), data);
    return { file: one.file, locate: one.locate, results };
  });
  if (format === "json") io.out(`${JSON.stringify({ files: tested.map(jsonFile) }, null, 2)}\n`);
  else if (format === "junit") io.out(junit(tested));
  else if (format === "sarif") io.out(sarif(tested.flatMap(failures)));
  else printResults(tested, isExplained, io);
  return tested.every(({ results }) => results.every(({ passed }) => passed)) ? 0 : 1;
}

/** Failures at the lines of the expectations; what is alike on several records is one. */
function failures({ file, locate, results }: TestedFile) {
  return alike(results.filter(({ passed }) => !passed)).flatMap(([first, ...more]) => {
    if (first === undefined) return [];
    const { path, what, expected, found } = first;
    const others = more.length === 0 ? "" : `, and the same on ${more.length} more records`;
    const message = `${what}: expected ${expected}, found ${found}${others}`;
    return [{ code: "failed-expectation", level: "error" as const, message, file, ...locate(path) }];
  });
}

function printResults(tested: readonly TestedFile[], isExplained: boolean, io: Io): void {
  const paint = palette(io);
  for (const { file, locate, results } of tested) {
    for (const [first, ...more] of alike(results.filter(({ passed }) => !passed))) {
      if (first === undefined) continue;
      const { path, name, what, expected, found, why } = first;
      io.out(`${paint.no("failed ")}  ${placeText(locate, path, file)}  ${what}\n`);
      if (name !== undefined) io.out(`         ${paint.quiet(name)}\n`);
      io.out(`         expected ${expected}, found ${found}\n`);
      if (more.length > 0) io.out(`         the same on ${more.length} more records: ${recordList(more)}\n`);
      if (isExplained && why !== undefined) io.out(`${indented(why)}\n`);
    }
  }
  const all = tested.flatMap(({ results }) => results);
  const open = all.filter(({ passed }) => !passed).length;
  const sum = `${all.length - open} passed, ${open} failed`;
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
