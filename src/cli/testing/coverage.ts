import { coverageOf, type RuleCoverage } from "../../verify/expectations/coverage.js";
import { placeText } from "../../verify/expectations/read-expectations.js";
import { uncovered } from "../../verify/expectations/uncovered.js";
import type { ExitCode, Io } from "../io.js";
import { palette } from "../paint.js";
import { coveragePage } from "./coverage-page.js";
import { expectationsOf } from "./expectation-files.js";
import { askedOf, type Testing } from "./testing.js";

/** Says which parts of the rules the expectations cover; exit code 1 for a rule that decided no answer. */
export function runCoverage(testing: Testing, format: string, io: Io): ExitCode {
  const { portier, parsed, file, files } = testing;
  const expectations = files.flatMap((one) => expectationsOf(portier, one));
  const rules = coverageOf(portier, expectations, askedOf(testing, portier));
  const place = ({ path }: RuleCoverage) => placeText(parsed.locate, path, file);
  const applied = rules.filter((rule) => rule.applied).length;
  if (format === "json") {
    io.out(`${JSON.stringify({ rules: rules.map((rule) => ({ place: place(rule), ...rule })) }, null, 2)}\n`);
  } else if (format === "html") io.out(coveragePage(rules, file, parsed.locate));
  else {
    const paint = palette(io);
    for (const rule of rules) {
      const open = uncovered(rule);
      if (open.length === 0) continue;
      io.out(
        `${rule.applied ? paint.warning("partly covered") : paint.no("not covered   ")}  ${place(rule)}  ${rule.rule}\n`,
      );
      for (const line of open) io.out(`        ${line}\n`);
    }
    const whole = rules.filter((rule) => uncovered(rule).length === 0).length;
    io.out(`${rules.length} rules: ${applied} covered, ${whole} of them in every part\n`);
  }
  return applied === rules.length ? 0 : 1;
}
