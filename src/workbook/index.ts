export { lockedFor, protectionsFromSheet } from "./grid-sheet.js";
export {
  type NamedCells,
  readSheetProtection,
  type SheetOptions,
  type SheetProtection,
  writeSheetProtection,
} from "./sheet-protection.js";
