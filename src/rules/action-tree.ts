import { type Field, isOwn, type Table } from "../schema/schema.js";
import { type ActionName, actionOf, actions, isBuiltIn, knownBy, layersOf } from "./actions.js";

/** The actions that show records. */
export type ShowAction = "list" | "view" | "export";

/**
 * What makes up a permission: which gates must let through, and how they are put together. It follows from the action and
 * the declaration of the table alone, so everybody shares it; what rules and persons add are the gates. Whatever decides,
 * or says beforehand what would be decided, interprets it: decisions, conditions, reach, masks, sets of records,
 * explanations and SQL.
 */
export type ActionTree =
  | GateNode
  /** Each part must let through. */
  | { readonly kind: "all"; readonly parts: readonly ActionTree[] }
  /** One way is enough. */
  | { readonly kind: "any"; readonly ways: readonly TreeWay[] }
  /** A record that is not known does not exist for the person; of one that is, `next` decides. */
  | { readonly kind: "known"; readonly known: ActionTree; readonly next: ActionTree }
  /** Where the record may be made, `next` decides about a field of it. */
  | { readonly kind: "made"; readonly act: ActionTree; readonly next: ActionTree }
  /** The record shows something of its own, and what the lookup leads to shows the field, in its own table. */
  | { readonly kind: "source"; readonly action: ShowAction; readonly field: Field; readonly record: ActionTree };

/** What the rules say of an action on one field, or of the act itself. */
export interface GateNode {
  readonly kind: "gate";
  readonly action: ActionName;
  readonly on: Field | "act";
  /** Whether it is asked before the new values are known: then the answer is that it may be tried. */
  readonly isTried: boolean;
}

export interface TreeWay {
  /** A refusal names a rule only where that rule stopped what another rule at this gate would have permitted. */
  readonly gate: GateNode;
  readonly tree: ActionTree;
}

/** The tree of an action on a record of a table, or on one field of it. */
export function actionTree(table: Table, action: ActionName, field: Field | undefined): ActionTree {
  if (!isBuiltIn(action)) return known(table, declared(table, action, field));
  switch (action) {
    case "list":
    case "view":
      return shown(table, action, field);
    case "export":
      return exported(table, field);
    case "edit":
    case "bulk":
      return known(
        table,
        field === undefined ? anyOf(table.fields, (one) => changed(action, one)) : changed(action, field),
      );
    case "create":
    case "import":
      return all(layersOf(action).map((layer) => made(layer, field)));
    case "delete":
      return known(table, gate(action, "act"));
    default:
      return action satisfies never;
  }
}

const knownTrees = new WeakMap<Table, ActionTree>();

/** Whether a person knows of a record: any field of its own is listed or viewed. */
export function knownTree(table: Table): ActionTree {
  const made: ActionTree = knownTrees.get(table) ?? {
    kind: "any",
    ways: knownBy.flatMap((action) => shownWays(table, action)),
  };
  knownTrees.set(table, made);
  return made;
}

/** The gates of a tree, in the order in which they are asked. */
export function gatesIn(tree: ActionTree): readonly GateNode[] {
  switch (tree.kind) {
    case "gate":
      return [tree];
    case "all":
      return tree.parts.flatMap(gatesIn);
    case "any":
      return tree.ways.flatMap((way) => gatesIn(way.tree));
    case "known":
      return [...gatesIn(tree.known), ...gatesIn(tree.next)];
    case "made":
      return [...gatesIn(tree.act), ...gatesIn(tree.next)];
    case "source":
      return gatesIn(tree.record);
    default:
      return tree satisfies never;
  }
}

/** Whether another record has a say: what a lookup leads to. */
export function hasSource(tree: ActionTree): boolean {
  switch (tree.kind) {
    case "gate":
      return false;
    case "all":
      return tree.parts.some(hasSource);
    case "any":
      return tree.ways.some((way) => hasSource(way.tree));
    case "known":
      return hasSource(tree.known) || hasSource(tree.next);
    case "made":
      return hasSource(tree.act) || hasSource(tree.next);
    case "source":
      return true;
    default:
      return tree satisfies never;
  }
}

/** A custom action; or one on the cells of a grid, any of them where none is named. */
function declared(table: Table, action: ActionName, field: Field | undefined): ActionTree {
  if (actionOf(table, action)?.target !== "fields") return gate(action, "act");
  return field === undefined ? anyOf(table.fields, (one) => gate(action, one)) : gate(action, field);
}

function gate(action: ActionName, on: Field | "act"): GateNode {
  const isTried = isBuiltIn(action) && actions[action].judges === "change";
  return { kind: "gate", action, on, isTried };
}

function all(parts: readonly ActionTree[]): ActionTree {
  const [only] = parts;
  return parts.length === 1 && only !== undefined ? only : { kind: "all", parts };
}

/** Any of these fields; a refusal is told by the first gate of each. */
function anyOf(fields: readonly Field[], treeOf: (field: Field) => ActionTree): ActionTree {
  const ways = fields.map((field): TreeWay => {
    const tree = treeOf(field);
    return { gate: gatesIn(tree)[0] as GateNode, tree };
  });
  return { kind: "any", ways };
}

function known(table: Table, next: ActionTree): ActionTree {
  return { kind: "known", known: knownTree(table), next };
}

function shownWays({ fields }: Table, action: "list" | "view"): readonly TreeWay[] {
  return fields.filter(isOwn).map((field) => ({ gate: gate(action, field), tree: gate(action, field) }));
}

/** The key is seen whenever any field is; a composite reference where all its parts are; a lookup where its source is, too. */
function shown(table: Table, action: "list" | "view", field: Field | undefined): ActionTree {
  if (field === undefined || table.key.includes(field)) return { kind: "any", ways: shownWays(table, action) };
  const parts = (field.by ?? []).map((part) => shown(table, action, part));
  return all([gate(action, field), ...source(table, action, field), ...parts]);
}

/** Only what may also be viewed, by rules of its own. The key goes out whenever any field does. */
function exported(table: Table, field: Field | undefined): ActionTree {
  const one = (asked: Field): ActionTree => {
    const parts = (asked.by ?? []).map((part) => exported(table, part));
    const own = gate("export", asked);
    return all([shown(table, "view", asked), ...parts, own, ...source(table, "export", asked)]);
  };
  if (field !== undefined && !table.key.includes(field)) return one(field);
  const ways = table.fields.filter(isOwn).map((asked) => ({ gate: gate("export", asked), tree: one(asked) }));
  return { kind: "any", ways };
}

/** By itself a lookup makes no record known, or exported. */
function source(table: Table, action: ShowAction, field: Field): ActionTree[] {
  if (field.lookup === undefined) return [];
  const record = action === "export" ? exported(table, undefined) : shown(table, action, undefined);
  return [{ kind: "source", action, field, record }];
}

/** A bulk change is tried only where the edit is. */
function changed(action: "edit" | "bulk", field: Field): ActionTree {
  return all(layersOf(action).map((layer) => gate(layer, field)));
}

function made(action: ActionName, field: Field | undefined): ActionTree {
  const act = gate(action, "act");
  return field === undefined ? act : { kind: "made", act, next: gate(action, field) };
}
