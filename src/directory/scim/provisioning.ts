import type { Row, Source } from "../../conditions/source.js";
import { keptOf } from "../../people/kept-state.js";
import { splitAddress } from "../../schema/address.js";
import { portierError } from "../../schema/problems.js";
import { isStorable } from "../../schema/scalar.js";
import { type Field, isOwn, type People, singleKey } from "../../schema/schema.js";
import { storedValue } from "../../schema/types/stored-form.js";
import type { StoredWrite } from "../../session/overlay.js";
import type { Portier } from "../../session/portier.js";
import { claimOf } from "../claim-of.js";
import { heldBy, isSameAttribute } from "./attribute.js";
import { Groups, groupId } from "./groups.js";
import { givenTo, type Mapping, mappingOf, withHeld, withShown } from "./mapping.js";
import type { Target } from "./patch.js";
import type { Path } from "./path.js";
import { attributeOf, type Resource, ScimError, urns } from "./resources.js";

/** What provisioned users and groups mean here. */
export interface ScimOptions {
  /** The attribute that is a person's key: `userName` (the default), `externalId` or another one. */
  readonly key?: string;
  /**
   * What the fields of a person are called there: `{ name: "displayName", mail: 'emails[type eq "work"].value' }`. A field of
   * an extension is written with its URN before it. Fields that are not named stay as they are, and what a client gives for
   * other attributes is not kept.
   */
  readonly fields: Readonly<Record<string, string>>;
  /** What groups mean, by their display name: the name of a role (`keeper`, `editor of e-2`) or of a group of the document. */
  readonly groups: Readonly<Record<string, string>>;
}

/** One state of a store, with what is looked up in it once for each resource. */
export class ProvisioningState {
  readonly source: Source;
  #names: Map<string, string> | undefined;

  constructor(source: Source) {
    this.source = source;
  }

  /** Who has a user name, by the name as it is compared. */
  names(all: () => Iterable<readonly [name: string, id: string]>): Map<string, string> {
    this.#names ??= new Map([...all()].map(([name, id]) => [comparable(name), id]));
    return this.#names;
  }
}

/** User names are the same in any case (RFC 7643, 4.1.1), and however many blanks are between their words. */
function comparable(name: string): string {
  return name.normalize("NFKC").trim().replaceAll(/\s+/g, " ").toLowerCase();
}

/** Users, and the groups that they are in, as resources, on one state of a store. */
export class Provisioning {
  readonly mappings: readonly Mapping[];
  /** The attribute that is a person's key. */
  readonly key: Path;
  readonly userTargets: readonly Target[];
  readonly groups: Groups;
  readonly #portier: Portier;
  readonly #people: People;
  readonly #key: Field;
  readonly #keyAttribute: string;

  constructor(portier: Portier, { key = "userName", fields, groups }: ScimOptions) {
    keptOf(portier);
    const { people } = portier.schema;
    const keyField = people && singleKey(people.table);
    if (people === undefined || keyField === undefined) throw portierError("no-people", { what: "provisioning" });
    this.#portier = portier;
    this.#people = people;
    this.#key = keyField;
    this.#keyAttribute = key;
    this.key = mappingOf(keyField, key).path;
    this.mappings = Object.entries(fields).map(([name, attribute]) => {
      const field = people.table.byName.get(name);
      if (field !== undefined && isOwn(field) && !field.computed && field !== keyField)
        return mappingOf(field, attribute);
      throw portierError("unknown-field", { table: people.table.name, name, candidates: people.table.byName.keys() });
    });
    this.userTargets = [
      { path: this.key, isMulti: false },
      ...this.mappings.map(({ path, isMulti, field }) => ({ path, isMulti, isWhole: field.type.base === "json" })),
    ];
    const meanings = new Map(Object.entries(groups).map(([name, meaning]) => [name, claimOf(portier, meaning)]));
    this.groups = new Groups(portier, people, keyField, meanings);
  }

  /** All users, without the groups that they are in. */
  users(source: Source): Resource[] {
    return [...(source.all?.(this.#people.table.name) ?? [])].map((row) => this.#userOf(row));
  }

  /** A user, with the groups that they are in unless those are not asked for. */
  user(id: string, source: Source, withGroups = true): Resource {
    const user = this.#userOf(this.#personRow(id, source));
    const groups = withGroups ? this.groups.of(id, source) : [];
    return groups.length === 0 ? user : { ...user, groups };
  }

  #personRow(id: string, source: Source): Row {
    const row = source.find(this.#people.table.name, id);
    if (row === undefined) throw new ScimError(404, `there is no user "${id}"`);
    return row;
  }

  /** What is shown of a person is what is provisioned, and nothing else of their record. */
  #userOf(row: Row): Resource {
    const id = String(row[this.#key.name]);
    let user = withHeld({ schemas: [urns.user], id }, this.key, id);
    for (const mapping of this.mappings) {
      const value = row[mapping.field.name];
      if (value !== null && value !== undefined) user = withShown(user, mapping, value);
    }
    if (attributeOf(user, "userName") === undefined) user = { ...user, userName: id };
    const extensions = Object.keys(user).filter((name) => name.startsWith("urn:"));
    return { ...user, schemas: [urns.user, ...extensions], meta: { resourceType: "User" } };
  }

  /** A person who is not there yet. */
  createUser(resource: Resource, state: ProvisioningState): readonly StoredWrite[] {
    const { table } = this.#people;
    const id = heldBy(resource, this.key);
    if (typeof id !== "string" || id === "")
      throw new ScimError(400, `"${this.#keyAttribute}" is missing`, "invalidValue");
    const [key] = splitAddress([this.#key.type], id) ?? [];
    if (key === undefined) throw new ScimError(400, `"${id}" can be nobody's key`, "invalidValue");
    if (state.source.find(table.name, id) !== undefined) throw userThere(id);
    this.#checkName(resource, id, state);
    const blank = table.fields.filter(isOwn).map((field) => [field.name, field.default ?? null] as const);
    const values: Row = {
      ...Object.fromEntries(blank),
      [this.#key.name]: key,
      ...this.#valuesOf(resource, state.source),
    };
    const lacking = table.fields.filter(
      (field) => isOwn(field) && !field.optional && !field.computed && !field.generated && values[field.name] === null,
    );
    if (lacking.length > 0) {
      const names = lacking.map((field) => this.#attributeOf(field) ?? field.name).join(", ");
      throw new ScimError(400, `these are missing: ${names}`, "invalidValue");
    }
    return [{ table, before: undefined, after: values }];
  }

  #attributeOf(field: Field): string | undefined {
    return this.mappings.find((mapping) => mapping.field === field)?.text;
  }

  /**
   * A user name is somebody's alone, in any case and with any blanks.
   *
   * @throws ScimError for one that another has (409, `uniqueness`), for one that begins or ends with a blank, and for one that
   * would not be kept (400, `invalidValue`).
   */
  #checkName(resource: Resource, id: string, state: ProvisioningState): void {
    const name = attributeOf(resource, "userName");
    if (name === undefined || name === null) return;
    if (typeof name !== "string" || name === "" || name !== name.trim() || /\s{2}/.test(name)) {
      throw new ScimError(400, `"userName" must be a text without blanks around it`, "invalidValue");
    }
    const isKept = this.userTargets.some(({ path }) => isUserName(path));
    if (!isKept && name !== id) {
      throw new ScimError(
        400,
        `"userName" is not kept here, so it must be the "${this.#keyAttribute}"`,
        "invalidValue",
      );
    }
    const names = state.names(() =>
      this.users(state.source).map((user) => [String(user["userName"]), String(user["id"])]),
    );
    const other = names.get(comparable(name));
    if (other !== undefined && other !== id) throw userThere(name);
    names.set(comparable(name), id);
  }

  /** A person's record with what a resource says of it. */
  replaceUser(id: string, resource: Resource, state: ProvisioningState): readonly StoredWrite[] {
    const { table } = this.#people;
    const before = this.#personRow(id, state.source);
    const named = heldBy(resource, this.key);
    const isSame = isUserName(this.key) ? comparable(String(named)) === comparable(id) : named === id;
    if (named !== undefined && !isSame) {
      throw new ScimError(400, `"${this.#keyAttribute}" is the user's key, and stays`, "mutability");
    }
    if (!isUserName(this.key)) this.#checkName(resource, id, state);
    const values = this.#valuesOf(resource, state.source);
    const isChanged = Object.entries(values).some(([name, value]) => {
      const type = table.byName.get(name)?.type;
      const canonical = (one: unknown) => (one === null ? null : type && storedValue(type, one));
      return JSON.stringify(canonical(value)) !== JSON.stringify(canonical(before[name]));
    });
    return isChanged ? [{ table, before, after: { ...before, ...values } }] : [];
  }

  /** The person, and whatever they were given. */
  deleteUser(id: string, source: Source): readonly StoredWrite[] {
    const before = this.#personRow(id, source);
    const { assignments, delegations } = keptOf(this.#portier);
    const of = (table: typeof assignments, field: string) =>
      [...(source.referring?.(table.name, field, id) ?? [])].map((row) => ({ table, before: row, after: undefined }));
    return [
      ...of(assignments, "person"),
      ...of(delegations, "of"),
      ...of(delegations, "to"),
      { table: this.#people.table, before, after: undefined },
    ];
  }

  /** Brings one user or group to what a resource says of it; a user who is not there is made. */
  writesOf(resource: Resource, isGroup: boolean, state: ProvisioningState): readonly StoredWrite[] {
    if (isGroup)
      return this.groups.replace(groupId(String(attributeOf(resource, "displayName"))), resource, state.source);
    const id = heldBy(resource, this.key);
    const isThere = typeof id === "string" && state.source.find(this.#people.table.name, id) !== undefined;
    return isThere ? this.replaceUser(id, resource, state) : this.createUser(resource, state);
  }

  /** Looks up what a user's resource refers to, so that a database is asked for it together with what others refer to. */
  lookUp(resource: Resource, source: Source): void {
    for (const mapping of this.mappings) {
      const { target } = mapping.field.type;
      const key = target === undefined ? undefined : givenTo(mapping, resource);
      if (target !== undefined && typeof key === "string") source.find(target, key);
    }
  }

  /** The people whom a user's resource refers to, such as their manager. */
  referredBy(resource: Resource): readonly string[] {
    const { table } = this.#people;
    return this.mappings
      .filter(({ field }) => field.type.target === table.name && field.type.element === undefined)
      .map((mapping) => givenTo(mapping, resource))
      .filter((key) => typeof key === "string");
  }

  #valuesOf(resource: Resource, source: Source): Row {
    const values: Record<string, unknown> = {};
    for (const mapping of this.mappings) {
      const { field, text } = mapping;
      const given = givenTo(mapping, resource);
      if (given === undefined || given === null) {
        if (!field.optional && field.default === null) throw new ScimError(400, `"${text}" is missing`, "invalidValue");
        values[field.name] = field.default ?? null;
        continue;
      }
      // Some clients send booleans as texts.
      const isSpelled = field.type.base === "boolean" && typeof given === "string" && /^(true|false)$/i.test(given);
      const value = isSpelled ? given.toLowerCase() === "true" : given;
      if (!field.type.fits(value) || !isStorable(value)) {
        throw new ScimError(400, `"${text}" must be ${field.type.expects}`, "invalidValue");
      }
      const { target } = field.type;
      if (target !== undefined && source.find(target, String(value)) === undefined) {
        throw new ScimError(400, `"${text}" is "${String(value)}", which is not there`, "invalidValue");
      }
      values[field.name] = value;
    }
    return values;
  }
}

function isUserName(path: Path): boolean {
  return isSameAttribute(path, { extension: undefined, name: "userName" });
}

function userThere(name: string): ScimError {
  return new ScimError(409, `there is a user "${name}"`, "uniqueness");
}
