import type { Row } from "../conditions/source.js";
import type { OpenSession } from "./open-session.js";
import { may } from "./questions.js";
import type { Session } from "./session.js";

/** What a person sees of a record when it is opened, or where it may only be listed, then; undefined where it is not known. */
export function seenOf(session: Session, table: string, record: Row | undefined): Row | undefined {
  return record === undefined ? undefined : (session.mask(table, record) ?? session.mask(table, record, "list"));
}

/** Whether a person knows of a record at all: what they may neither open nor list does not exist for them. */
export function isKnownTo(session: OpenSession, table: string, record: Row): boolean {
  return may(session, "list", table, record) || may(session, "view", table, record);
}
