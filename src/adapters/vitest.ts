import type {} from "vitest";
import type { Row } from "../conditions/source.js";
import { explain } from "../explain/explain.js";
import { explanationText } from "../explain/text.js";
import { recordAddress } from "../schema/address.js";
import { findTable } from "../schema/schema.js";
import { insidesOf } from "../session/portier.js";
import type { Session } from "../session/session.js";

/** What a matcher answers to Vitest. */
interface Matched {
  readonly pass: boolean;
  readonly message: () => string;
}

/** Sessions of any document. */
type AnySession = Pick<Session, "roles">;

/**
 * Matchers for Vitest's `expect.extend`: whether a session permits something, with the whole explanation where it comes out
 * otherwise.
 *
 * @example
 * import { accessMatchers } from "portier/vitest";
 * expect.extend(accessMatchers);
 * expect(session).toPermit("view", "objects", sextant, "title");
 * expect(session).not.toPermit("delete", "objects", sextant);
 * expect(session).toPermitExactly("edit", "objects", sextant, ["label"]);
 */
export const accessMatchers = {
  /** On the record, or without one on any record at all. */
  toPermit(received: unknown, action: string, table: string, record?: Row, field?: string): Matched {
    const session = sessionOf(received);
    const pass =
      record === undefined ? session.reach(action, table, field) !== "none" : session.may(action, table, record, field);
    return { pass, message: () => why(session, action, table, record, field) };
  },

  /** These fields of the record and no other. */
  toPermitExactly(received: unknown, action: string, table: string, record: Row, fields: readonly string[]): Matched {
    const session = sessionOf(received);
    const declared = findTable(insidesOf(session).ruleset.schema, table)?.fields ?? [];
    const found = declared.map(({ name }) => name).filter((name) => session.may(action, table, record, name));
    const wrong = [...found, ...fields].find((name) => found.includes(name) !== fields.includes(name));
    const said = `expected ${fields.join(", ") || "nothing"}, found ${found.join(", ") || "nothing"}`;
    return { pass: wrong === undefined, message: () => `${said}\n\n${why(session, action, table, record, wrong)}` };
  },
};

function sessionOf(received: unknown): Session {
  insidesOf(received as AnySession);
  return received as Session;
}

function why(
  session: Session,
  action: string,
  table: string,
  record: Row | undefined,
  field: string | undefined,
): string {
  const declared = findTable(insidesOf(session).ruleset.schema, table);
  const address = record === undefined || declared === undefined ? undefined : recordAddress(declared, record);
  const what = `${table}${address === undefined ? "" : `/${address}`}${field === undefined ? "" : ` ${field}`}`;
  return explanationText(explain(session, { action, table, record, field }), session.person ?? "this person", what);
}

/** The matchers as TypeScript sees them on `expect(...)`. */
export interface AccessMatchers<R = unknown> {
  toPermit(action: string, table: string, record?: Row, field?: string): R;
  toPermitExactly(action: string, table: string, record: Row, fields: readonly string[]): R;
}

declare module "vitest" {
  // biome-ignore lint/suspicious/noExplicitAny: as Vitest declares it
  interface Matchers<T = any> extends AccessMatchers<T> {}
}
