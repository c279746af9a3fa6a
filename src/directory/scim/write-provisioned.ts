import { entryOf } from "../../people/audit-entry.js";
import { judgeWrites } from "../../people/judge-change.js";
import { keptOf } from "../../people/kept-state.js";
import type { RoleStore, StoreChange } from "../../people/role-store.js";
import { singleKey } from "../../schema/schema.js";
import type { StoredWrite } from "../../session/overlay.js";
import type { Portier } from "../../session/portier.js";
import { ScimError } from "./resources.js";

/**
 * Writes the records of a call together with an entry of it, if nobody then holds roles that exclude each other and the last holders
 * stay.
 *
 * @throws ScimError (409) otherwise; nothing is written then.
 */
export async function writeProvisioned(
  portier: Portier,
  store: RoleStore,
  inside: StoreChange,
  writes: readonly StoredWrite[],
  what: string,
  now: string,
): Promise<void> {
  if (writes.length === 0) return;
  const kept = keptOf(portier);
  const isKept = ({ table }: StoredWrite) => table === kept.assignments || table === kept.delegations;
  if (!store.keepsPersons && !writes.every(isKept)) {
    throw new ScimError(501, "persons are not kept here; provision groups alone");
  }
  const [problem] = await inside.read((source) => judgeWrites(portier, source, writes, now));
  if (problem !== undefined) throw new ScimError(409, problem.message);
  const person = personOf(writes, portier);
  await inside.write(writes, [entryOf({ kind: "provision", at: now, by: null, person, details: [what] }, writes)]);
}

/** The one whom some writes are about; null where it is several. */
function personOf(writes: readonly StoredWrite[], { schema }: Portier): string | null {
  const key = schema.people && singleKey(schema.people.table);
  const persons = writes.map(({ table, before, after }) => {
    const row = after ?? before ?? {};
    return String(
      row[table === schema.people?.table ? (key?.name ?? "") : table === schema.kept?.delegations ? "of" : "person"],
    );
  });
  return new Set(persons).size === 1 ? (persons[0] ?? null) : null;
}
