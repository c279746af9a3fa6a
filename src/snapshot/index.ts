export type { Row, Source } from "../conditions/source.js";
export { openSnapshot, type Snapshot, type SnapshotOptions } from "../session/snapshot.js";
