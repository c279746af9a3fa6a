export {
  type AccessChange,
  type AccessDifference,
  accessDifference,
  everybodysDifference,
  type SharedDifference,
} from "./gains.js";
export { type LintData, lint } from "./lint.js";
export { accessMatrix, type MatrixCell, type MatrixRow } from "./matrix.js";
export { type Member, membersOf } from "./members.js";
export { type CellView, type RecordView, recordView } from "./view.js";
export { groupViewers, personViewer, personViewers, roleViewers, type Viewer, visitorViewer } from "./viewers.js";
