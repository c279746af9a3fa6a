import { compileTest } from "../conditions/evaluate.js";
import { quietly } from "../conditions/read.js";
import type { Row } from "../conditions/source.js";
import { True } from "../conditions/truth.js";
import { singleKey, type Table } from "../schema/schema.js";
import { internals } from "../session/internals.js";
import type { Session } from "../session/session.js";

/** Whether a record belongs to the session's person. */
export function isOwner(session: Session, { owner }: Table, record: Row): boolean {
  const { ruleset, subject, reading } = internals(session);
  const { people } = ruleset.schema;
  const key = people && singleKey(people.table);
  if (owner === undefined || key === undefined || subject.key === null || subject.key === undefined) return false;
  const user = { kind: "constant", type: key.type, value: subject.key } as const;
  return compileTest({ kind: "belongs", path: owner, subject: user })(record, quietly(reading)) === True;
}
