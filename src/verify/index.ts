export { type LintData, lint } from "./lint.js";
export { accessMatrix, type MatrixCell, type MatrixRow } from "./matrix.js";
export { type Member, membersOf } from "./members.js";
export { type CellView, type RecordView, recordView } from "./view.js";
export { personViewer, personViewers, roleViewers, type Viewer, visitorViewer } from "./viewers.js";
