import type { AccessChange } from "../verify/gains.js";

/** The headings of lines of what somebody gains or loses, after that of the mark. */
export const accessHeadings = ["table", "action", "records", "what", "such as"];

/** One line of what somebody gains or loses, behind its mark. */
export function accessCells(mark: string, line: AccessChange, sensitiveMark = "sensitive: "): string[] {
  const { table, actions, fields, records, of, samples, sensitive } = line;
  return [
    mark,
    table,
    actions.join(", "),
    records === undefined ? "new ones" : `${records} of ${of}`,
    `${sensitive ? sensitiveMark : ""}${fields.length === 0 ? "the record" : fields.join(", ")}`,
    samples.join(", "),
  ];
}
