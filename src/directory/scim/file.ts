import type { Source } from "../../conditions/source.js";
import type { RoleStore } from "../../people/role-store.js";
import type { AnyDocument, DocumentTypes } from "../../schema/document-types.js";
import { portierError } from "../../schema/problems.js";
import { findTable } from "../../schema/schema.js";
import { timestampOf } from "../../schema/types/timestamp.js";
import { type StoredWrite, WrittenSource } from "../../session/overlay.js";
import type { Portier } from "../../session/portier.js";
import { heldBy } from "./attribute.js";
import { Provisioning, ProvisioningState, type ScimOptions } from "./provisioning.js";
import { attributeOf, isComplex, type Resource, ScimError, urns } from "./resources.js";
import { writeProvisioned } from "./write-provisioned.js";

/**
 * Brings people and groups to what a file of SCIM resources says (RFC 7643 as JSON: a list, or the `Resources` of a list
 * response): users are made or changed, groups get the members that they are said to have. All of it or nothing; gives the
 * number of records written. People and groups that the file does not name stay as they are.
 *
 * @throws PortierError (`wrong-call`) for what is no such file, and for a resource that cannot be taken over, with its
 * number.
 */
export async function provisionFile<T extends DocumentTypes = AnyDocument>(
  portier: Portier<T>,
  store: RoleStore,
  text: string,
  options: ScimOptions,
): Promise<number> {
  const own = portier as unknown as Portier;
  const provisioning = new Provisioning(own, options);
  const resources = resourcesOf(text);
  // Groups name users, so users come first.
  const users = resources.filter((one) => !isGroup(one));
  const ordered = [...referredFirst(users, provisioning), ...resources.filter(isGroup)];
  const lookUp = (user: Resource, source: Source) => {
    try {
      provisioning.lookUp(user, source);
    } catch {
      // What is wrong with it is said when it is its turn.
    }
  };
  const now = timestampOf(new Date()) as string;
  return store.change(async (inside) => {
    const writes = await inside.read((source) => {
      const planned: StoredWrite[] = [];
      const written = new WrittenSource(source, (name) => findTable(own.schema, name));
      const state = new ProvisioningState(written);
      for (const user of users) lookUp(user, source);
      for (const resource of ordered) {
        try {
          const writes = provisioning.writesOf(resource, isGroup(resource), state);
          for (const write of writes) written.write(write);
          planned.push(...writes);
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
  const odd = list.findIndex((one) => !isComplex(one));
  if (odd >= 0) throw wrongFile(`resource ${odd + 1} is not an object`);
  return list as Resource[];
}

/** Users so that whoever is referred to comes before those who refer to them, such as a manager. */
function referredFirst(users: readonly Resource[], provisioning: Provisioning): readonly Resource[] {
  const byKey = new Map(users.map((user) => [heldBy(user, provisioning.key), user]));
  const ordered = new Set<Resource>();
  const begun = new Set<Resource>();
  for (const user of users) {
    // Up the line as far as it goes, then down again; a line that comes back to itself is left where it does.
    const line: Resource[] = [user];
    for (let one = line.at(-1); one !== undefined; one = line.at(-1)) {
      begun.add(one);
      const first = referredBy(one, provisioning)
        .map((key) => byKey.get(key))
        .find((other) => other !== undefined && !begun.has(other));
      if (first !== undefined) line.push(first);
      else ordered.add(line.pop() as Resource);
    }
  }
  return [...ordered];
}

/** What is wrong with a resource is said when it is its turn. */
function referredBy(user: Resource, provisioning: Provisioning): readonly string[] {
  try {
    return provisioning.referredBy(user);
  } catch {
    return [];
  }
}

function isGroup(resource: Resource): boolean {
  const schemas = attributeOf(resource, "schemas");
  return Array.isArray(schemas) && schemas.includes(urns.group);
}

function wrongFile(why: string) {
  return portierError("wrong-call", { what: `this file cannot be provisioned: ${why}`, hint: "nothing was changed" });
}
