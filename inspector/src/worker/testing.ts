import { PortierError, type Problem } from "portier";
import { coverageOf, parsePlaced, uncovered } from "portier/tooling";
import { type ExpectationData, readExpectations, runExpectations } from "portier/verify";
import type { Standing } from "./project.js";
import type { CoveredRule, OpenedFile, Tested } from "./protocol.js";

type TestFiles = readonly Pick<OpenedFile, "name" | "text">[];

/** What was expected, compared with what the rules come to. */
export function testUnder(standing: Standing, files: TestFiles): Tested {
  const { read, problems } = readFiles(standing, files);
  const results = read.flatMap(({ name: file, placed, expectations }) =>
    runExpectations(standing.portier, expectations, askedOf(standing)).map(({ path, ...result }) => ({
      ...result,
      file,
      line: placed.locate(path).line,
    })),
  );
  return { results, problems };
}

/** What of the rules the expectations have covered. */
export function coverageUnder(standing: Standing, files: TestFiles): readonly CoveredRule[] {
  const expectations = readFiles(standing, files).read.flatMap((one) => one.expectations);
  return coverageOf(standing.portier, expectations, askedOf(standing)).map((rule) => ({
    rule: rule.rule,
    open: uncovered(rule),
    line: standing.locate(rule.path).line,
  }));
}

function askedOf({ data, request }: Standing): ExpectationData {
  return { source: data.source, records: (table) => data.tables.get(table) ?? [], options: { request } };
}

/** Files that can be read; those that cannot say what is wrong, and keep the others from nothing. */
function readFiles({ portier }: Standing, files: TestFiles) {
  const problems: string[] = [];
  const read = files
    .filter(({ text }) => text.trim() !== "")
    .flatMap(({ name, text }) => {
      try {
        const placed = parsePlaced(text, { file: name });
        return [{ name, placed, expectations: readExpectations(portier, placed.value, placed.locate) }];
      } catch (error) {
        if (!(error instanceof PortierError)) throw error;
        problems.push(...error.problems.map(saidAtPlace));
        return [];
      }
    });
  return { read, problems };
}

function saidAtPlace({ file, line, message, hint }: Problem): string {
  return `${file}:${line}: ${message}${hint === undefined ? "" : ` ${hint}`}`;
}
