import type { DeclaredField, DeclaredReference, DeclaredType } from "./declare-fields.js";
import type { Part } from "./reader.js";
import type { FieldType } from "./types/field-type.js";
import { list } from "./types/list.js";
import { reference } from "./types/reference.js";
import { scalarTypes } from "./types/scalars.js";

/** What the linker needs to know of a table. */
export interface LinkTable {
  readonly fields: ReadonlyMap<string, DeclaredField>;
  readonly key: readonly string[];
}

/** Follows references to the type of the key they hold, and lookups to the type of what they show. */
export class TypeLinker {
  readonly #tables: ReadonlyMap<string, LinkTable>;
  readonly #types = new Map<DeclaredField, FieldType | "open" | "broken">();

  constructor(tables: ReadonlyMap<string, LinkTable>) {
    this.#tables = tables;
  }

  /** The type of a field of a table; undefined after a problem. */
  typeOf(field: DeclaredField, table: string, from: Part = field.part): FieldType | undefined {
    const known = this.#types.get(field);
    if (known === "open") from.problems.add("circular-type", { field: field.name, table }, from.path);
    if (known === "open" || known === "broken") return undefined;
    if (known !== undefined) return known;
    this.#types.set(field, "open");
    const type = this.#link(field.type, table);
    this.#types.set(field, type ?? "broken");
    return type;
  }

  #link(type: DeclaredType, table: string): FieldType | undefined {
    switch (type.kind) {
      case "known":
        return type.type;
      case "reference":
        return this.#reference(type, table);
      case "list": {
        const element = this.#reference(type.element, table);
        return element && list(element);
      }
      case "lookup":
        return this.#lookup(type, table);
      default:
        return type satisfies never;
    }
  }

  #reference({ table: target, part, by }: DeclaredReference, table: string): FieldType | undefined {
    const found = this.#tables.get(target);
    if (found === undefined) {
      part.problems.add("unknown-table", { name: target, candidates: this.#tables.keys() }, part.path);
      return undefined;
    }
    if (by !== undefined) return this.#referenceBy(target, found, by, part, table);
    if (found.key.length > 1) {
      part.problems.add("key-reference", { table: target, why: "several" }, part.path);
      return undefined;
    }
    const [keyName = ""] = found.key;
    const key = found.fields.get(keyName);
    const type = key && this.typeOf(key, target, part);
    return type && reference(target, type);
  }

  /** A reference made of other fields holds a record's address, which is a text. */
  #referenceBy(
    target: string,
    found: LinkTable,
    by: readonly Part[],
    part: Part,
    table: string,
  ): FieldType | undefined {
    if (found.key.length < 2 || by.length !== found.key.length) {
      part.problems.add("reference-by", { table: target, key: found.key }, part.path);
      return undefined;
    }
    let isRight = true;
    const own = this.#tables.get(table);
    for (const [index, item] of by.entries()) {
      const name = item.value as string;
      const field = own?.fields.get(name);
      const key = found.fields.get(found.key[index] ?? "");
      if (field === undefined) {
        item.problems.add("unknown-field", { table, name, candidates: own?.fields.keys() ?? [] }, item.path);
      }
      const type = field && this.typeOf(field, table, item);
      const keyType = key && this.typeOf(key, target, item);
      if (type !== undefined && keyType !== undefined && type.base !== keyType.base) {
        const facts = {
          field: name,
          use: `"by" of a reference to ${target}`,
          expected: `${keyType.noun}`,
          label: type.noun,
        };
        item.problems.add("wrong-field-type", facts, item.path);
        isRight = false;
      }
      if (type === undefined || keyType === undefined) isRight = false;
    }
    return isRight ? reference(target, scalarTypes.text) : undefined;
  }

  #lookup({ through, field }: Extract<DeclaredType, { kind: "lookup" }>, table: string): FieldType | undefined {
    const own = this.#tables.get(table)?.fields;
    const reference = own?.get(through.value as string);
    if (reference === undefined) {
      const facts = { table, name: through.value as string, candidates: own?.keys() ?? [] };
      through.problems.add("unknown-field", facts, through.path);
      return undefined;
    }
    const type = this.typeOf(reference, table, through);
    const target = type?.target;
    const found = target === undefined ? undefined : this.#tables.get(target);
    if (type === undefined) return undefined;
    if (target === undefined || found === undefined) {
      through.problems.add("not-a-reference", { table, field: reference.name, label: type.noun }, through.path);
      return undefined;
    }
    const shown = found.fields.get(field.value as string);
    if (shown !== undefined) return this.typeOf(shown, target, field);
    const facts = { table: target, name: field.value as string, candidates: found.fields.keys() };
    field.problems.add("unknown-field", facts, field.path);
    return undefined;
  }
}
