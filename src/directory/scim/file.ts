import { type StoredWrite, withWrites } from "../../people/overlay.js";
import type { RoleStore } from "../../people/role-store.js";
import { portierError } from "../../schema/problems.js";
import type { AnyTables, TableTypes } from "../../schema/table-types.js";
import { timestampOf } from "../../schema/types/timestamp.js";
import type { Portier } from "../../session/portier.js";
import { Provisioning, type ScimOptions, writeProvisioned } from "./provisioning.js";
import { attributeOf, type Resource, ScimError, urns } from "./resources.js";

/**
 * Brings people and groups to what a file of SCIM resources says (RFC 7643 as JSON: a list, or the `Resources` of a list
 * response): users are made or changed, groups get the members that they are said to have. All of it or nothing; gives the
 * number of records written. People and groups that the file does not name stay as they are.
 *
 * @throws PortierError (`wrong-call`) for what is no such file, and for a resource that cannot be taken over, with its
 * number.
 */
export async function provisionFile<T extends TableTypes = AnyTables>(
  portier: Portier<T>,
  store: RoleStore,
  text: string,
  options: ScimOptions,
): Promise<number> {
  const own = portier as unknown as Portier;
  const provisioning = new Provisioning(own, options);
  const resources = resourcesOf(text);
  // Groups name users, so users come first.
  const ordered = [...resources.filter((one) => !isGroup(one)), ...resources.filter(isGroup)];
  const now = timestampOf(new Date()) as string;
  return store.change(async (inside) => {
    const writes = await inside.read((source) => {
      const planned: StoredWrite[] = [];
      for (const resource of ordered) {
        const state = withWrites(source, own.schema, planned);
        try {
          planned.push(...provisioning.writesOf(resource, isGroup(resource), state));
        } catch (error) {
          throw error instanceof ScimError
            ? wrongFile(`resource ${resources.indexOf(resource) + 1}: ${error.message}`)
            : error;
        }
      }
      return planned;
    });
    try {
      await writeProvisioned(own, store, inside, writes, "file", now);
    } catch (error) {
      throw error instanceof ScimError ? wrongFile(error.message) : error;
    }
    return writes.length;
  });
}

function resourcesOf(text: string): Resource[] {
  let value: unknown;
  try {
    value = JSON.parse(text);
  } catch (error) {
    throw wrongFile(error instanceof Error ? error.message : String(error));
  }
  const list = Array.isArray(value) ? value : attributeOf(value, "Resources");
  if (!Array.isArray(list)) throw wrongFile("it holds neither a list nor Resources");
  return list as Resource[];
}

function isGroup(resource: Resource): boolean {
  const schemas = attributeOf(resource, "schemas");
  return Array.isArray(schemas) && schemas.includes(urns.group);
}

function wrongFile(why: string) {
  return portierError("wrong-call", { what: `this file cannot be provisioned: ${why}`, hint: "nothing was changed" });
}
