import type { DocumentInput, RuleInput, TypedDocument } from "../schema/document.js";
import type { CheckedDeclaration } from "./checked-declaration.js";
import { type ConditionScope, conditionScope, TypedCondition } from "./condition.js";
import type { Declaration, DocumentTypesOf, RuleOf, TableName } from "./types.js";

/** The rules of a declared document, by table; under `"*"` those of every table, which are checked when it is compiled. */
export type RulesOf<D extends Declaration> = {
  readonly [T in TableName<D>]?: {
    readonly [rule: string]: RuleOf<D, T, (scope: ConditionScope<D, T> extends infer S ? S : never) => TypedCondition>;
  };
} & { readonly "*"?: Readonly<Record<string, RuleInput>> };

/** A declared shape, waiting for its rules. */
export interface Declared<D extends Declaration> {
  /** Completes the document. A wrong table, field, role, action or choice value is an error where it is written. */
  rules(rules: RulesOf<D>): TypedDocument<DocumentTypesOf<D>>;
}

/**
 * What TypeScript knows of a declared document. An interface of it gives it a name, which messages and editors then show in place
 * of the whole document.
 *
 * ```ts
 * const shape = define({ tables: { objects: { key: "id", fields: { id: "text", title: "text" } } } });
 * interface Museum extends TypesOf<typeof shape> {}
 * const portier = compile<Museum>(shape.rules({}));
 * // Portier<Museum>
 * ```
 */
export type TypesOf<S extends { rules(rules: never): DocumentInput }> = S extends {
  rules(rules: never): TypedDocument<infer T>;
}
  ? T
  : never;

/**
 * Declares a document's shape in TypeScript: the same keys as in YAML, with every name checked where it is written.
 *
 * ```ts
 * const museum = define({
 *   people: { table: "staff", roles: "post" },
 *   roles: { keeper: {} },
 *   tables: {
 *     staff: { key: "id", fields: { id: "text", post: { choice: ["keeper"] } } },
 *     objects: { key: "id", fields: { id: "text", title: "text", status: { choice: ["shown", "stored"] } } },
 *   },
 * }).rules({
 *   objects: {
 *     "what-is-shown-is-public": {
 *       to: "anyone",
 *       where: ({ record }) => record.status.is("shown"),
 *       permit: { view: ["title"] },
 *     },
 *   },
 * });
 * compile(museum).session().mask("objects", { id: "o-1", title: "Bell", status: "shown" });
 * // { id: "o-1", title: "Bell" }, typed { id?: string; title?: string; status?: "shown" | "stored" } | undefined
 * ```
 */
export function define<const D extends Declaration>(declaration: Declaration & D & CheckedDeclaration<D>): Declared<D> {
  return {
    rules: (rules) => {
      const { "*": every, ...byTable } = rules as Readonly<Record<string, Readonly<Record<string, object>>>>;
      const tables: Record<string, object> = every === undefined ? {} : { "*": { rules: every } };
      for (const [name, table] of Object.entries(declaration.tables)) {
        const own = byTable[name];
        tables[name] = own === undefined ? table : { ...table, rules: plainRules(declaration, name, own) };
      }
      // A table that was not declared stays, so that compiling names it.
      for (const name of Object.keys(byTable)) tables[name] ??= { rules: byTable[name] };
      return { portier: 1, ...declaration, tables } as unknown as TypedDocument<DocumentTypesOf<D>>;
    },
  };
}

function plainRules(declaration: Declaration, table: string, rules: Readonly<Record<string, object>>) {
  const scope = conditionScope(declaration, table);
  const plain = (value: unknown) => {
    if (typeof value !== "function") return value;
    const condition: unknown = value(scope);
    return condition instanceof TypedCondition ? condition.text : condition;
  };
  return Object.fromEntries(
    Object.entries(rules).map(([name, rule]) => [
      name,
      Object.fromEntries(Object.entries(rule).map(([key, value]) => [key, plain(value)])),
    ]),
  );
}
