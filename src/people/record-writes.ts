import type { Row } from "../conditions/source.js";
import { splitAddress } from "../schema/address.js";
import { type Field, singleKey, type Table } from "../schema/schema.js";
import { scalarTypes } from "../schema/types/scalars.js";
import { storedValue } from "../schema/types/stored-form.js";
import { checkCreate, checkDelete, checkEdit } from "../session/check-change.js";
import type { StoredWrite } from "../session/overlay.js";
import type { AssignmentContext } from "../session/roles/assignment-context.js";
import { linksOf } from "../session/roles/holdings.js";
import { refuse } from "../session/roles/refusal.js";
import { mustSet } from "../session/roles/setting-changes.js";
import { mustKnow, personKey } from "./known-to-assigner.js";
import type { RoleChange } from "./role-change.js";

type ChangeOf<K extends RoleChange["kind"]> = Extract<RoleChange, { kind: K }>;

/** What a change writes into tables of the application's own: by the rules of these, besides all else. */
export class RecordWrites {
  readonly #context: AssignmentContext;

  constructor(context: AssignmentContext) {
    this.#context = context;
  }

  /** A person's own record is changed as any record is, by the rules of its table. */
  person({ person, values }: ChangeOf<"change-person">): StoredWrite {
    const { table } = this.#context.people;
    const before = this.#context.source.find(table.name, person);
    if (before === undefined) return refuse("change-refused", { what: `the change of ${person}`, fields: [] });
    return this.#written(table, before, values, `the change of ${person}`);
  }

  /** So is a record of a link table. */
  link({ table: name, key, values }: ChangeOf<"change-link">): StoredWrite {
    const { schema, source } = this.#context;
    const link = linksOf(schema).find(({ table }) => table.name === name && schema.tables.has(name));
    if (link === undefined) {
      const candidates = linksOf(schema).map(({ table }) => table.name);
      return refuse("unknown-table", { name, candidates });
    }
    const before = key === undefined ? undefined : source.find(name, key);
    if (key !== undefined && before === undefined) return refuse("no-such-record", { table: name, name: key });
    return this.#written(link.table, before, values, key === undefined ? `a new record of ${name}` : `${name} ${key}`);
  }

  /** One record says what is set; more of the same are taken away with it. */
  setting({ person, table: about, field, level, record }: ChangeOf<"set">): StoredWrite[] {
    const { schema } = this.#context;
    const settings = schema.people?.settings ?? refuse("no-settings", {});
    mustSet(this.#context, settings);
    const key = personKey(this.#context, person);
    const { table } = settings;
    const what = `the setting of "${field}"`;
    const [address] =
      record === undefined ? [null] : (splitAddress([settings.record?.type ?? scalarTypes.text], record) ?? []);
    if (address === undefined || (record !== undefined && settings.record === undefined))
      return refuse("no-such-record", { table: about, name: record ?? "" });
    if (record !== undefined && schema.tables.has(about)) mustKnow(this.#context, about, record);
    const target: Row = {
      [settings.person.name]: key,
      [settings.on.name]: about,
      [settings.field.name]: field,
      ...(settings.record === undefined ? {} : { [settings.record.name]: address }),
    };
    const named = [settings.person, settings.on, settings.field, ...(settings.record ? [settings.record] : [])];
    const isSame = (row: Row) =>
      named.every(({ name }) => String(row[name] ?? "") === String(target[name] ?? "")) &&
      !this.#isOver(row, settings.until);
    const all = [...(this.#context.source.referring?.(table.name, settings.person.name, person) ?? [])];
    const [first, ...more] = all.filter(isSame);
    if (level === null && first === undefined) refuse("not-set", { person, field: `${about}.${field}` });
    const taken = (level === null && first !== undefined ? [first, ...more] : more).map((row) =>
      this.#written(table, row, null, what),
    );
    if (level === null) return taken;
    const values = { [settings.level.name]: level };
    if (first !== undefined) {
      if (first[settings.level.name] === level) return taken;
      return [...taken, this.#written(table, first, values, what)];
    }
    const id = singleKey(table);
    // A key that nothing of this fills, and that the database does not make, is made here.
    const isOpen = id !== undefined && !id.generated && id.type.name === "text" && !(id.name in target);
    const own = isOpen ? { [id.name]: this.#context.newId() } : {};
    return [...taken, this.#written(table, undefined, { ...own, ...target, ...values }, what)];
  }

  /** What an accepted change of a record writes. */
  #written(table: Table, before: Row | undefined, values: Row | null, what: string): StoredWrite {
    const { session } = this.#context;
    const outcome =
      values === null
        ? checkDelete(session, table.name, before)
        : before === undefined
          ? checkCreate(session, table.name, values)
          : checkEdit(session, table.name, before, values);
    if (outcome.accepted) return { table, before, after: outcome.record };
    // What stands against it as a change of who holds what is found out, and named, with the state after it.
    const isOfRoles = outcome.refusals.length > 0 && outcome.refusals.every(({ reason }) => reason === "role-change");
    if (isOfRoles) return { table, before, after: values === null ? undefined : { ...before, ...values } };
    const fields = outcome.refusals.flatMap(({ field }) => (field === undefined ? [] : [field]));
    return refuse("change-refused", { what, fields });
  }

  #isOver(row: Row, end: Field | undefined): boolean {
    const until = end && storedValue(end.type, row[end.name]);
    return typeof until === "string" && until <= this.#context.assigner.now;
  }
}
