import { type Reading, rawValue } from "../conditions/read.js";
import { True } from "../conditions/truth.js";
import { portierError } from "../schema/problems.js";
import type { Scalar } from "../schema/scalar.js";
import type { Field, Schema } from "../schema/schema.js";
import { listElements } from "../schema/types/list.js";
import { storedValue } from "../schema/types/stored-form.js";
import { isRunning } from "./assigned-roles.js";

/**
 * The roles that whoever acts for a person does not act in.
 *
 * @throws PortierError when no delegation from that person to them runs at that time, or what is stored of one cannot be
 * read.
 */
export function findDelegation(
  { kept }: Schema,
  of: Scalar | null,
  to: string,
  now: string,
  reading: Reading,
): ReadonlySet<string> {
  const table = kept?.delegations;
  if (table === undefined) {
    const hint = 'say "people: { assignments: true }", so that delegations are kept';
    throw portierError("wrong-call", { what: "nobody acts for another in this document", hint });
  }
  const { source } = reading;
  if (source?.referring === undefined) {
    throw portierError("needs-source", { what: "the delegations of a person", method: "referring" });
  }
  const field = (name: string) => table.byName.get(name) as Field;
  const [from, until, without] = [field("from"), field("until"), field("without")];
  const rows = of === null ? [] : [...source.referring(table.name, "of", String(of))];
  const running = rows.filter(
    (row) =>
      String(rawValue(row, "of")) === String(of) &&
      String(rawValue(row, "to")) === to &&
      isRunning({ from, until }, row, now, reading) === True,
  );
  if (running.length === 0) {
    const what = `${to} does not act for ${of === null ? "a visitor" : of} at this time`;
    throw portierError("wrong-call", { what, hint: "a delegation from the one to the other must run" });
  }
  const withheld = running.map((row) => {
    const stored = rawValue(row, "without");
    const roles = stored === null ? "[]" : storedValue(without.type, stored);
    if (roles !== undefined) return new Set(listElements(roles) as readonly string[]);
    throw portierError("bad-value", { field: "without", expects: without.type.expects, found: stored });
  });
  // Of several, a role is left out that all of them leave out.
  const [first = new Set<string>(), ...more] = withheld;
  return new Set([...first].filter((role) => more.every((one) => one.has(role))));
}
