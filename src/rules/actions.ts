/** What an action's extent speaks of, and which state of the record its conditions look at. */
export interface Action {
  /** `fields`; `record` (the extent is `yes`); `both` for the act and the fields that are given a value. */
  readonly speaksOf: "fields" | "record" | "both";
  /** `stored`: the record as it is. `new`: as it would become. `change`: both. */
  readonly judges: "stored" | "new" | "change";
  /** For sentences: `may not edit`. */
  readonly verb: string;
}

/** The actions in the order in which they are shown. */
export const actionNames = ["list", "view", "create", "edit", "delete"] as const;

export type ActionName = (typeof actionNames)[number];

export const actions: Readonly<Record<ActionName, Action>> = {
  list: { speaksOf: "fields", judges: "stored", verb: "list" },
  view: { speaksOf: "fields", judges: "stored", verb: "view" },
  create: { speaksOf: "both", judges: "new", verb: "create" },
  edit: { speaksOf: "fields", judges: "change", verb: "edit" },
  delete: { speaksOf: "record", judges: "stored", verb: "delete" },
};

export function isActionName(name: string): name is ActionName {
  return Object.hasOwn(actions, name);
}
