import type { Path } from "../schema/problems.js";
import type { Problems } from "../schema/report.js";
import {
  type Field,
  type FieldPath,
  lastOf,
  type Role,
  type Schema,
  singleKey,
  type Table,
  writtenOut,
} from "../schema/schema.js";
import { reference } from "../schema/types/reference.js";
import { scalarTypes } from "../schema/types/scalars.js";
import { personType } from "./comparable.js";
import type { Expression, Operand } from "./expression.js";
import type { PathSyntax } from "./syntax.js";

/** What a condition's names mean: the table whose record it is about, and where problems go. */
export interface Scope {
  readonly schema: Schema;
  readonly table: Table;
  readonly problems: Problems;
  /** Place of the condition's text in the document. */
  readonly path: Path;
  /** Whether a `may` may do with the action on the table; undefined where `may` has no place, as in a group. */
  readonly isAction: ((action: string, table: Table) => boolean) | undefined;
  /** What makes somebody a member; undefined where no condition may ask for it, as in a filter. */
  readonly members: PersonMembers | undefined;
}

/** Who holds roles and is in groups, as conditions. */
export interface PersonMembers {
  /** The names of the groups. */
  readonly groups: ReadonlySet<string>;
  /** What makes a person hold a role or be in a group, as a condition on their own record. */
  readonly of: (name: string) => Expression;
  /** The same of the current user, of whom more is known; undefined where there is none, as in a group. */
  readonly ofMe: ((name: string) => Expression) | undefined;
  /** Whether the person that one operand leads to holds a scoped role on the record that the other leads to. */
  readonly holdsOn: (role: Role, person: Operand, record: Operand) => Expression;
}

/** Finds what the paths of one condition mean. */
export class PathResolver {
  readonly #scope: Scope;
  /** Inside `exists`: the table of the record that the rule is about, which `this` leads to. */
  readonly #outer: Table | undefined;

  constructor(scope: Scope, outer: Table | undefined) {
    this.#scope = scope;
    this.#outer = outer;
  }

  /** The operand that a path stands for; undefined after a problem. */
  resolve(node: PathSyntax): Operand | undefined {
    const { schema, table, problems, path } = this.#scope;
    switch (node.root) {
      case "record":
        return this.#fieldOperand(this.#steps(table, node));
      case "this": {
        const own = this.#outer ?? table;
        const kind = this.#outer === undefined ? "field" : "outer";
        if (node.names.length > 0) return this.#fieldOperand(this.#steps(own, node), kind);
        return { kind, type: reference(own.name, own.address.type), path: [own.address] };
      }
      case "owner": {
        if (table.owner === undefined || schema.people === undefined) {
          problems.add("no-owner", { table: table.name }, path, node.at);
          return undefined;
        }
        if (node.names.length === 0) {
          return { kind: "field", type: personType(schema.people.table, table.owner), path: table.owner };
        }
        if (lastOf(table.owner).type.element !== undefined) {
          const facts = { table: table.name, field: "owner", label: lastOf(table.owner).type.noun };
          problems.add("not-a-reference", facts, path, node.at);
          return undefined;
        }
        const further = this.#steps(schema.people.table, node);
        // Where the owner is the person's own key, the record that it is read from is the person.
        const isOwnKey = lastOf(table.owner).type.target === undefined;
        const [first, ...rest] = [...(isOwnKey ? table.owner.slice(0, -1) : table.owner), ...(further ?? [])];
        return further && first && this.#fieldOperand([first, ...rest]);
      }
      case "me": {
        const people = schema.people?.table;
        const key = people && singleKey(people);
        if (people === undefined || key === undefined) {
          problems.add("no-people", { what: '"me"' }, path, node.at);
          return undefined;
        }
        if (node.names.length === 0) return { kind: "me", type: reference(people.name, key.type), path: [key] };
        const steps = this.#steps(people, node);
        return steps && { kind: "me", type: lastOf(steps).type, path: steps };
      }
      case "request":
        return this.#request(node);
      default:
        return node.root satisfies never;
    }
  }

  #fieldOperand(steps: FieldPath | undefined, kind: "field" | "outer" = "field"): Operand | undefined {
    return steps && { kind, type: lastOf(steps).type, path: steps };
  }

  #request(node: PathSyntax): Operand | undefined {
    const { schema, problems, path } = this.#scope;
    const [name, ...rest] = node.names;
    const type = name === "now" ? scalarTypes.timestamp : schema.request.get(name ?? "");
    if (name !== undefined && type !== undefined && rest.length === 0) return { kind: "request", type, name };
    const candidates = ["now", ...schema.request.keys()];
    problems.add("unknown-request", { name: node.names.join("."), candidates }, path, node.places[0] ?? node.at);
    return undefined;
  }

  /** Follows a path's names from a table; every one but the last must be a reference. */
  #steps(from: Table, node: PathSyntax): FieldPath | undefined {
    const { schema, problems, path } = this.#scope;
    const steps: Field[] = [];
    let table = from;
    for (const [index, name] of node.names.entries()) {
      const at = node.places[index] ?? node.at;
      const field = table.byName.get(name);
      if (field === undefined) {
        problems.add("unknown-field", { table: table.name, name, candidates: table.byName.keys() }, path, at);
        return undefined;
      }
      steps.push(...writtenOut(field));
      if (index === node.names.length - 1) break;
      const next = field.type.target === undefined ? undefined : schema.tables.get(field.type.target);
      if (next === undefined) {
        problems.add("not-a-reference", { table: table.name, field: name, label: field.type.noun }, path, at);
        return undefined;
      }
      table = next;
    }
    const [first, ...rest] = steps;
    return first && [first, ...rest];
  }
}
