import type { Table } from "../schema/schema.js";

/** What an action's extent speaks of, and which state of the record its conditions look at. */
export interface Action {
  /** `fields`; `record` (the extent is `yes`); `both` for the act and the fields that are given a value. */
  readonly target: "fields" | "record" | "both";
  /** `stored`: the record as it is. `new`: as it would become. `change`: both. */
  readonly judges: "stored" | "new" | "change";
  /** Whether the action sets values. */
  readonly writes: boolean;
  /** Whether it is for records that the person knows of; others do not exist for it. */
  readonly needsKnown: boolean;
  /** The action that must be permitted as well: this one is a gate on top of it. */
  readonly on?: BuiltInAction;
}

/** The built-in actions in the order in which they are shown. */
export const actionNames = ["list", "view", "create", "edit", "delete", "export", "import", "bulk"] as const;

/** An action that every table has. */
export type BuiltInAction = (typeof actionNames)[number];

/** A built-in action, or one that a table declares. */
export type ActionName = BuiltInAction | (string & {});

export const actions: Readonly<Record<BuiltInAction, Action>> = {
  list: { target: "fields", judges: "stored", writes: false, needsKnown: false },
  view: { target: "fields", judges: "stored", writes: false, needsKnown: false },
  create: { target: "both", judges: "new", writes: true, needsKnown: false },
  edit: { target: "fields", judges: "change", writes: true, needsKnown: true },
  delete: { target: "record", judges: "stored", writes: false, needsKnown: true },
  export: { target: "fields", judges: "stored", writes: false, needsKnown: false, on: "view" },
  import: { target: "both", judges: "new", writes: true, needsKnown: false, on: "create" },
  bulk: { target: "fields", judges: "change", writes: true, needsKnown: true, on: "edit" },
};

/** Of a grid whose cells are protected as data: who may protect them. It is asked of places, whatever stands there. */
export const protectAction = "protect";

const protect: Action = { target: "fields", judges: "stored", writes: false, needsKnown: true };

const custom: Action = { target: "record", judges: "stored", writes: false, needsKnown: true };

export function isBuiltIn(name: string): name is BuiltInAction {
  return Object.hasOwn(actions, name);
}

/** What an action of a table is; undefined when the table has no such action. */
export function actionOf(table: Table, name: string): Action | undefined {
  if (isBuiltIn(name)) return actions[name];
  if (name === protectAction && table.grid?.protections) return protect;
  return table.actions.includes(name) ? custom : undefined;
}

/** Whether an action of a table is asked of fields as well: it is not done with a record as a whole. */
export function speaksOfFields(table: Table, action: ActionName): boolean {
  const found = actionOf(table, action);
  return found !== undefined && found.target !== "record";
}

/** The names of all actions of a table, built-in ones first. */
export function actionNamesOf(table: Table): readonly ActionName[] {
  return [...actionNames, ...(table.grid?.protections ? [protectAction] : []), ...table.actions];
}

/** Whatever of a record is listed or viewed makes it known. */
export const knownBy = ["list", "view"] as const;

/** The actions whose rules count for one: a permitted view also permits list, and what blocks either blocks list. */
export function countingFor(action: ActionName): readonly ActionName[] {
  return action === "list" ? knownBy : [action];
}

/** The actions whose rules must all permit a change of this kind: an edit under a bulk change, making a record under import. */
export function layersOf(action: BuiltInAction): readonly BuiltInAction[] {
  const { on } = actions[action];
  return on === undefined ? [action] : [on, action];
}
