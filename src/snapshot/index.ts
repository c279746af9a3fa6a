import type { AnyDocument, DocumentTypes } from "../schema/document-types.js";
import { OpenSession } from "../session/open-session.js";
import { partsFrom, type Snapshot, type SnapshotOptions } from "../session/snapshot.js";

/**
 * `openSnapshot` for the functions of this module: a bundle carries those that it calls, and not the rest.
 *
 * @throws PortierError as {@link openSnapshot} does.
 *
 * @example
 * const session = readSnapshot(await response.json());
 * if (may(session, "edit", "objects", object, "label")) ...
 */
export function readSnapshot<T extends DocumentTypes = AnyDocument>(
  snapshot: Snapshot,
  options: SnapshotOptions = {},
): OpenSession<T> {
  return new OpenSession(partsFrom(snapshot, options));
}

export type { Row, Source } from "../conditions/source.js";
export {
  checkAction,
  checkBulkEdit,
  checkCreate,
  checkDelete,
  checkEdit,
  checkImport,
} from "../session/check-change.js";
export { choices } from "../session/choices.js";
export { form } from "../session/form.js";
export type { OpenSession } from "../session/open-session.js";
export { decide, may, question } from "../session/questions.js";
export { home, reach, screens } from "../session/reaches.js";
export { mask, maskAll, sort } from "../session/shows.js";
export { openSnapshot, type Snapshot, type SnapshotOptions } from "../session/snapshot.js";
