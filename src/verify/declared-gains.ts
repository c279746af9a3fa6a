import type { Field, Role, Schema, SettingSource } from "../schema/schema.js";

/**
 * What a document opens more widely than another one outside of its rules, as sentences: tables that are observed, settings per
 * person, and who may assign roles. No look at what somebody may do shows these before they are used.
 */
export function declaredGains(before: Schema, after: Schema): string[] {
  return [
    ...observedGains(before, after),
    ...protectionGains(before, after),
    ...settingGains(before.people?.settings, after.people?.settings),
    ...[...after.roles.values()].flatMap((role) => assignmentGains(before.roles.get(role.name), role)),
  ];
}

function observedGains(before: Schema, after: Schema): string[] {
  const isObserved = (name: string) => before.tables.get(name)?.observe === true;
  return [...after.tables.values()]
    .filter(({ name, observe }) => observe && !isObserved(name))
    .map(({ name }) => `${name} is observed: in a database nothing of it is refused or hidden`);
}

function protectionGains(before: Schema, after: Schema): string[] {
  const isProtected = (schema: Schema, name: string) => schema.tables.get(name)?.grid?.protections === true;
  return [...before.tables.keys()]
    .filter((name) => isProtected(before, name) && after.tables.has(name) && !isProtected(after, name))
    .map((name) => `what people protected in ${name} counts no more`);
}

function settingGains(before: SettingSource | undefined, after: SettingSource | undefined): string[] {
  if (after === undefined) {
    return before === undefined ? [] : ["settings per person count no more: what they take away is given back"];
  }
  const sentences: string[] = [];
  const columns = ({ table, person, on, field, level, record, from, until }: SettingSource) =>
    JSON.stringify([table.name, ...[person, on, field, level, record, from, until].map((one) => one?.name)]);
  if (before !== undefined && columns(before) !== columns(after)) {
    sentences.push(`settings per person are read otherwise: from ${after.table.name}`);
  }
  for (const name of after.settableBy) {
    if (before?.settableBy.includes(name) !== true)
      sentences.push(`${name} may set what one person may do with a field`);
  }
  for (const [table, { view, edit }] of after.adds) {
    const was = before?.adds.get(table);
    const gained = (fields: ReadonlySet<Field>, known: ReadonlySet<Field> | undefined) => {
      const names = new Set([...(known ?? [])].map(({ name }) => name));
      return [...fields].map(({ name }) => name).filter((name) => !names.has(name));
    };
    const [seen, edited] = [gained(view, was?.view), gained(edit, was?.edit)];
    if (seen.length > 0) sentences.push(`a setting may open ${table} ${seen.join(", ")} to be viewed`);
    if (edited.length > 0) sentences.push(`a setting may open ${table} ${edited.join(", ")} to be edited`);
  }
  return sentences;
}

/** A role that is new is given to nobody yet: who gives it is a part of it. */
function assignmentGains(before: Role | undefined, after: Role): string[] {
  if (before === undefined) return [];
  const text = ({ name, ofThis }: Role["assignableBy"][number]) => (ofThis ? `${name} of the same record` : name);
  const known = before.assignableBy.map(text);
  const assigners = after.assignableBy.map(text).filter((assigner) => !known.includes(assigner));
  const together = [...before.exclusive].filter((other) => !after.exclusive.has(other));
  return [
    ...assigners.map((assigner) => `${assigner} may give and take ${after.name}`),
    ...together.filter((other) => after.name < other).map((other) => `${after.name} and ${other} may be held together`),
    ...(after.minHolders < before.minHolders
      ? [`${after.name} must be held by ${after.minHolders} instead of ${before.minHolders}`]
      : []),
  ];
}
