import type { Path } from "../../schema/problems.js";
import { placeText } from "../../verify/expectations/read-expectations.js";
import { type MutationRun, survivingMutations } from "../../verify/surviving-mutations.js";
import type { ExitCode, Io } from "../io.js";
import { palette } from "../paint.js";
import { progressOf } from "../progress.js";
import { knownExpectations } from "./expectation-files.js";
import { askedOf, everybodyUnder, type Testing } from "./testing.js";

/** Tries mutations of the rules on the expectations, and lists those that survive. */
export function runMutations(testing: Testing, format: string, io: Io): ExitCode {
  const { portier, parsed, file, files, data } = testing;
  const run = survivingMutations(parsed.document, portier, {
    read: (one) => files.flatMap((asked) => knownExpectations(one, asked)),
    data: (one) => askedOf(testing, one),
    viewers: (one) => everybodyUnder(testing, one),
    records: (table) => data.tables.get(table) ?? [],
    onProgress: progressOf(io, "test --mutate", "mutations tried"),
  });
  const place = (path: Path) => placeText(parsed.locate, path, file);
  if (format === "json") {
    const told = run.survived.map(({ mutation: { path, rule, what }, gained, samples }) => ({
      ...{ place: place(path), rule, what, gained, samples },
    }));
    io.out(`${JSON.stringify({ tried: run.tried, detected: run.detected, survived: told }, null, 2)}\n`);
  } else printSurvivors(run, place, io);
  return run.survived.length === 0 ? 0 : 1;
}

function printSurvivors(
  { tried, detected, equivalent, survived }: MutationRun,
  place: (path: Path) => string,
  io: Io,
): void {
  const paint = palette(io);
  for (const { mutation, kind, samples } of survived) {
    const [first] = samples;
    io.out(`${paint.warning("survived")}  ${place(mutation.path)}  ${mutation.rule}: ${mutation.what}\n`);
    const { persons, gain } = first ?? {};
    const said =
      persons === undefined || gain === undefined
        ? kind === "loss"
          ? "somebody loses access"
          : "different changes would be accepted"
        : `${persons.slice(0, 3).join(", ")}${persons.length > 3 ? ` and ${persons.length - 3} more` : ""} would ${gain.actions.join(", ")} ${gain.fields.join(", ")} of ${gain.records ?? "new"} ${gain.table}`;
    io.out(`           ${said}\n`);
  }
  const rest = equivalent.length === 0 ? "" : `, ${equivalent.length} change nothing on these records`;
  io.out(`${tried} mutations: ${detected} detected, ${survived.length} survived${rest}\n`);
}
