import { compileTest } from "../../conditions/evaluate.js";
import type { Row, Source } from "../../conditions/source.js";
import { specialize } from "../../conditions/specialize.js";
import { True } from "../../conditions/truth.js";
import { internals } from "../../session/internals.js";
import type { Portier } from "../../session/portier.js";
import { toNobody } from "../../session/reading.js";
import type { Session } from "../../session/session.js";

import type { SessionOptions } from "../../session/session-options.js";
import type { Expectation } from "./expectation.js";

/** What expectations are looked at with. */
export interface ExpectationData {
  /** The records that conditions read. */
  readonly source: Source;
  /** All records of a table. */
  readonly records: (table: string) => Iterable<Row>;
  /** What each session is opened with besides the person and the source. */
  readonly options?: Omit<SessionOptions, "person" | "source">;
}

/** The session of the one whom an expectation is about. */
export function openExpected(
  portier: Portier,
  { as, at }: Pick<Expectation, "as" | "at">,
  data: ExpectationData,
): Session {
  const { source } = data;
  const own = { onDiagnostic: toNobody, ...data.options };
  const options = at === undefined ? own : { ...own, request: { ...own.request, now: at } };
  switch (as.kind) {
    case "visitor":
      return portier.session({ ...options, source });
    case "person":
      return portier.session({ ...options, source, person: as.key });
    case "made-up":
      return portier.session({ ...options, source, person: as.row });
    case "member":
      return portier.sessionForRoles([as.name], options);
    default:
      return as satisfies never;
  }
}

/** The records that an expectation is about; none for the table as a whole, undefined where there should be one and is not. */
export function recordsOf({ on }: Expectation, session: Session, data: ExpectationData): readonly Row[] | undefined {
  if (on.kind === "table") return [];
  if (on.kind === "record") return [on.row];
  if (on.kind === "key") {
    const row = data.source.find(on.table.name, on.key);
    return row === undefined ? undefined : [row];
  }
  const { subject, reading } = internals(session);
  const test = compileTest(specialize(on.condition, subject.known));
  const met = [...data.records(on.table.name)].filter((row) => test(row, reading) === True);
  return met.length === 0 ? undefined : met;
}
