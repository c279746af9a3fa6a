export {
  type CellRange,
  columnLetters,
  columnNumber,
  movedOut,
  moveRange,
  overlaps,
  parseRange,
  printRange,
  type SheetChange,
} from "../rules/ranges.js";
export { addRange, editRange, type NewRange, type RangeChange, type RangePlace, removeRange } from "./edit.js";
export { type KeptRange, keptRanges } from "./list.js";
export { type LostRange, type MovedRanges, moveRanges } from "./move.js";
