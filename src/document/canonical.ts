import { parseCondition } from "../conditions/parser.js";
import { printCondition } from "../conditions/printer.js";
import { effectNames } from "../rules/effects.js";
import type { DocumentInput } from "../schema/document.js";
import { isMapping } from "../schema/reader.js";

/**
 * A document as canonical JSON: documents that say the same in another spelling (YAML or TypeScript, short or long forms,
 * one name or a list of one, spaces in conditions) give the same text. The order of keys says nothing and is
 * alphabetical, but for fields and screens, whose order is part of what is declared.
 *
 * The document should compile; of one that does not, what cannot be read stays as it is.
 */
export function canonicalJson(document: DocumentInput): string {
  return `${JSON.stringify(sorted(canonicalDocument(document)), null, 2)}\n`;
}

type Mapping = Readonly<Record<string, unknown>>;

function canonicalDocument(document: DocumentInput): Mapping {
  return {
    ...document,
    timeZone: document.timeZone ?? "UTC",
    ...(document.people === undefined ? {} : { people: canonicalPeople(document.people) }),
    ...(document.roles === undefined
      ? {}
      : {
          roles: each(document.roles, (role) =>
            change(role, { include: listOf, exclusive: listOf, assignableBy: listOf }),
          ),
        }),
    ...(document.groups === undefined ? {} : { groups: each(document.groups, canonicalGroup) }),
    ...(document.screens === undefined
      ? {}
      : { screens: Object.entries(document.screens).map(([name, screen]) => ({ name, ...canonicalScreen(screen) })) }),
    tables: each(document.tables, canonicalTable),
  };
}

function canonicalPeople(people: unknown): unknown {
  const adds = (tables: unknown) =>
    isMapping(tables) ? each(tables, (table) => change(table, { view: listOf, edit: listOf })) : tables;
  return change(people, { roles: listOf, settings: (one) => change(one, { settableBy: listOf, adds }) });
}

function canonicalScreen(screen: unknown): object {
  return change(screen, { needs: listOf, to: listOf, home: listOf }) as object;
}

function canonicalGroup(group: unknown): unknown {
  const members = (written: unknown) =>
    listOf(written).map((member) => change(member, { where: canonicalCondition, below: String, above: String }));
  return change(group, { members, without: members, where: canonicalCondition, roles: listOf });
}

function canonicalTable(table: unknown): unknown {
  return change(table, {
    key: listOf,
    actions: listOf,
    // A list, as the order of fields is a part of the document.
    fields: (fields) =>
      isMapping(fields) ? Object.entries(fields).map(([name, field]) => ({ name, ...canonicalField(field) })) : fields,
    rules: (rules) => (isMapping(rules) ? each(rules, canonicalRule) : rules),
  });
}

function canonicalField(field: unknown): Mapping {
  if (typeof field === "string") return { type: field };
  if (!isMapping(field)) return { type: field };
  const implied = ["choice", "reference", "list", "lookup"].find((key) => field[key] !== undefined);
  // A flag that is false says nothing; a default that is, does.
  const flags = Object.entries(field).filter(
    ([key, value]) => value !== undefined && (value !== false || key === "default"),
  );
  return { ...(implied === undefined ? {} : { type: implied }), ...Object.fromEntries(flags) };
}

function canonicalRule(rule: unknown): unknown {
  const extents = (written: unknown) => (isMapping(written) ? each(written, canonicalExtent) : written);
  return change(rule, {
    to: listOf,
    except: listOf,
    skip: listOf,
    where: canonicalCondition,
    becomes: canonicalCondition,
    ...Object.fromEntries(effectNames.map((effect) => [effect, extents])),
  });
}

function canonicalExtent(extent: unknown): unknown {
  if (extent === true || extent === "yes") return "yes";
  return isMapping(extent) ? change(extent, { cells: listOf, except: listOf }) : listOf(extent);
}

function canonicalCondition(written: unknown): unknown {
  if (typeof written === "boolean") return String(written);
  if (typeof written !== "string" || written.trim() === "any") return written;
  const parsed = parseCondition(written);
  return "problems" in parsed ? written : printCondition(parsed.condition);
}

function listOf(written: unknown): unknown[] {
  return Array.isArray(written) ? written : [written];
}

/** The same mapping with some of its values changed; keys without a value are left out. */
function change(value: unknown, changes: Readonly<Record<string, (value: unknown) => unknown>>): unknown {
  if (!isMapping(value)) return value;
  const entries = Object.entries(value).filter(([, one]) => one !== undefined);
  return Object.fromEntries(entries.map(([key, one]) => [key, changes[key]?.(one) ?? one]));
}

function each(mapping: Mapping, canonical: (value: unknown) => unknown): Mapping {
  return Object.fromEntries(Object.entries(mapping).map(([key, value]) => [key, canonical(value)]));
}

function sorted(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(sorted);
  if (!isMapping(value)) return value;
  const keys = Object.keys(value).sort();
  return Object.fromEntries(keys.map((key) => [key, sorted(value[key])]));
}
