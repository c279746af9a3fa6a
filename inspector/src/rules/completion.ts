import type { Overview } from "../worker/protocol.js";

/** A word that fits where one is writing, and what it is. */
export interface Word {
  readonly label: string;
  readonly kind: "table" | "field" | "role" | "group" | "action" | "key" | "word";
}

const topKeys = ["portier", "timeZone", "people", "request", "roles", "groups", "screens", "tables"];
const tableKeys = ["note", "source", "key", "owner", "fields", "actions", "grid", "ranges", "rules", "ignore"];
const ruleKeys = [
  ...["to", "except", "where", "becomes", "alsoAfter", "permit", "deny", "reserve", "confirm"],
  ...["from", "until", "skip", "note", "ignore"],
];
const roleKeys = ["include", "scope", "exclusive", "minHolders", "assignableBy", "note", "ignore"];
const groupKeys = ["members", "where", "equivalent", "roles", "note", "ignore"];
const screenKeys = ["needs", "to", "in", "home", "note", "ignore"];
const peopleKeys = ["table", "name", "manager", "active", "roles", "assignments", "ignore"];
const fieldKeys = [
  ...["type", "choice", "reference", "list", "lookup", "by", "optional", "sensitive", "computed", "generated"],
  ...["tags", "default", "column", "note"],
];
const types = ["text", "integer", "decimal", "boolean", "date", "timestamp", "json"];
const whoWords = ["anyone", "signed-in", "owner", "above owner"];
const conditionWords = [
  ...["me", "this", "request", "now", "today", "and", "or", "not", "is null", "is not null", "in"],
  ...["exists", "may", "contains", "starts with", "true", "false"],
];
const effects = ["permit", "deny", "reserve", "confirm"];

/** Where in a document a place in its text is: the keys above it, the innermost last, and the word that is begun there. */
export interface WritingPlace {
  readonly path: readonly string[];
  /** Whether a key is written there, and not a value. */
  readonly isKey: boolean;
  readonly word: string;
}

/**
 * Finds out where one is writing from the lines above and their indents: a text that is being written is seldom YAML. Within
 * a line, braces and brackets that are open lead further down.
 */
export function placeIn(text: string, offset: number): WritingPlace {
  const lines = text.slice(0, offset).split("\n");
  const current = lines.pop() ?? "";
  const indent = current.length - current.trimStart().length;
  const path: string[] = [];
  let least = current.trim() === "" ? current.length : indent;
  for (const line of lines.reverse()) {
    if (line.trim() === "" || line.trimStart().startsWith("#")) continue;
    const own = line.length - line.trimStart().length;
    const [, key] = /^\s*(?:- )?"?([^\s"#:{[][^":]*?)"?:(?:\s|$)/.exec(line) ?? [];
    if (own >= least || key === undefined) continue;
    path.unshift(key);
    least = own;
    if (own === 0) break;
  }
  // Within the line: each key, and whether what it opened is still open.
  const open: { readonly key: string | undefined; readonly isMap: boolean }[] = [];
  let last: string | undefined;
  let begun = "";
  for (const sign of current.trimStart().replace(/^- /, "")) {
    if (sign === "{" || sign === "[") {
      open.push({ key: last, isMap: sign === "{" });
      [last, begun] = [undefined, ""];
    } else if (sign === "}" || sign === "]") {
      open.pop();
      [last, begun] = [undefined, ""];
    } else if (sign === ",") [last, begun] = [undefined, ""];
    else if (sign === ":" && last === undefined) [last, begun] = [begun.trim(), ""];
    else begun += sign;
  }
  const inner = open.flatMap(({ key }) => (key === undefined ? [] : [key]));
  const isInList = open.at(-1)?.isMap === false;
  const [word = ""] = /[\w.-]*$/.exec(begun) ?? [];
  if (last !== undefined) return { path: [...path, ...inner, last], isKey: false, word };
  return { path: [...path, ...inner], isKey: !isInList && !/^\s*- /.test(current), word };
}

/** The words that may stand at a place. */
export function wordsAt({ path, isKey }: WritingPlace, { tables, roles, groups }: Overview): readonly Word[] {
  const [section, name, part, rule, effect, action] = path;
  const table = tables.find((one) => one.name === name);
  const fields = (table?.fields ?? []).map((field): Word => ({ label: field.name, kind: "field" }));
  const who: readonly Word[] = [
    ...roles.map((label): Word => ({ label, kind: "role" })),
    ...groups.map((label): Word => ({ label, kind: "group" })),
  ];
  const words = (labels: readonly string[], kind: Word["kind"] = "word") =>
    labels.map((label): Word => ({ label, kind }));
  const keys = (labels: readonly string[]) => (isKey ? words(labels, "key") : []);
  const allTables = words(
    tables.map((one) => one.name),
    "table",
  );
  if (section === undefined) return keys(topKeys);
  if (section === "people") return name === "table" ? allTables : name === undefined ? keys(peopleKeys) : [];
  if (section === "roles") {
    if (name === undefined) return [];
    if (part === undefined) return keys(roleKeys);
    return part === "scope" ? allTables : ["include", "exclusive", "assignableBy"].includes(part) ? who : [];
  }
  if (section === "groups") {
    if (part === undefined) return name === undefined ? [] : keys(groupKeys);
    return ["members", "equivalent", "roles"].includes(part) ? who : [];
  }
  if (section === "screens") {
    if (part === undefined) return name === undefined ? [] : keys(screenKeys);
    if (part === "needs") return tables.flatMap((one) => words(one.actions.map((act) => `${one.name}.${act}`)));
    return ["to", "home"].includes(part) ? who : [];
  }
  if (section !== "tables") return [];
  if (name === undefined) return isKey ? allTables : [];
  if (part === undefined) return keys(tableKeys);
  if (["key", "owner"].includes(part)) return fields;
  if (part === "grid") return [...keys(["position", "columns"]), ...(isKey ? [] : fields)];
  if (part === "fields") {
    if (rule === undefined) return [];
    if (effect === "reference" || rule === "reference") return allTables;
    return isKey ? words(fieldKeys, "key") : words(types);
  }
  if (part !== "rules" || rule === undefined) return [];
  if (effect === undefined) return keys(ruleKeys);
  if (["to", "except"].includes(effect)) return [...who, ...words(whoWords)];
  if (["where", "becomes"].includes(effect)) return [...fields, ...words(conditionWords)];
  if (!effects.includes(effect)) return [];
  if (action === undefined) return isKey ? words(table?.actions ?? [], "action") : [];
  return [...words(["all", "yes", "cells"]), ...fields];
}
