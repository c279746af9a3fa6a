import type { Row } from "../conditions/source.js";
import { keptRanges } from "../ranges/list.js";
import { originalOf } from "../rules/copies.js";
import type { Group, Member } from "../rules/groups.js";
import { type Line, readLine } from "../rules/lines.js";
import type { Rule, Who } from "../rules/rule.js";
import type { Screen } from "../rules/screens.js";
import { type Field, findTable, type Role, type Schema, type SettingSource, type Table } from "../schema/schema.js";
import { internals } from "../session/internals.js";
import type { Portier } from "../session/portier.js";
import { accessMatrix, type MatrixRow } from "../verify/matrix.js";
import { roleViewers, type Viewer } from "../verify/viewers.js";
import { drawGrid } from "./grid-picture.js";
import { drawRoles } from "./roles-picture.js";
import { listed, sayCondition, sayDistance, sayPath } from "./say-condition.js";
import { sayRoleRule, sayRule } from "./say-rule.js";

/** What a report is made of. */
export interface ReportOptions {
  /** The heading. */
  readonly title: string;
  /** Everybody, for the matrix of people. Default: the matrix is of roles alone. */
  readonly people?: readonly Viewer[];
  /** Table name to records, to count. */
  readonly records?: ReadonlyMap<string, readonly Row[]>;
  /** What the sessions of roles are opened with: the instant counts. */
  readonly request?: Readonly<Record<string, unknown>>;
}

/** What a document comes to, in sentences and pictures, for people who must believe it. */
export interface Report {
  readonly title: string;
  /** `10 tables, 10 roles, 4 groups, 65 rules.` And how its sentences are to be read. */
  readonly summary: string;
  /** The roles and groups as an SVG; undefined where there are none. */
  readonly picture: string | undefined;
  /** What is for everybody, or depends on the record alone. */
  readonly everybody: readonly TableSentences[];
  readonly roles: readonly RoleReport[];
  readonly groups: readonly GroupReport[];
  readonly screens: readonly ScreenReport[];
  readonly tables: readonly TableReport[];
  readonly byRole: readonly MatrixRow[];
  readonly byPeople: readonly MatrixRow[];
}

/** A rule in words. */
export interface Sentence {
  /** The rule's address. */
  readonly rule: string;
  readonly text: string;
  readonly note: string | undefined;
}

/** The sentences about one table. */
export interface TableSentences {
  readonly table: string;
  readonly label: string;
  readonly sentences: readonly Sentence[];
}

/** What a report says about a role. */
export interface RoleReport {
  readonly name: string;
  readonly note: string | undefined;
  /** `held on one record of Exhibitions`, `includes assistant`, `assigned and revoked by director`. */
  readonly facts: readonly string[];
  readonly may: readonly TableSentences[];
}

/** What a report says about a group. */
export interface GroupReport {
  readonly name: string;
  readonly note: string | undefined;
  readonly facts: readonly string[];
}

/** A page, or a part of one, in words. */
export interface ScreenReport {
  readonly name: string;
  readonly note: string | undefined;
  /** `a part of objects`, `shown where objects.list.title is permitted`, `home of keeper`. */
  readonly facts: readonly string[];
}

/** What a report says about a field. */
export interface FieldReport {
  readonly name: string;
  readonly label: string;
  /** `text`, `reference to staff`. */
  readonly type: string;
  readonly note: string | undefined;
  /** `sensitive`, `computed`, `shown through Department`, tags. */
  readonly marks: readonly string[];
}

/** What a report says about a table. */
export interface TableReport {
  readonly name: string;
  readonly label: string;
  readonly note: string | undefined;
  readonly facts: readonly string[];
  readonly fields: readonly FieldReport[];
  readonly sentences: readonly Sentence[];
  /** The ranges that its rules speak of, drawn on the grid, as an SVG. */
  readonly grid: string | undefined;
}

const howToRead =
  "Nothing is permitted that no rule here permits. What stands behind “where” holds of an edit before and after it, unless “afterwards” says what it must lead to.";

/** Puts a document into sentences and pictures. What it says is what was compiled, and not how it was written. */
export function makeReport(portier: Portier, { title, people = [], records, request = {} }: ReportOptions): Report {
  const { schema, groups, rules, screens, lines } = internals(portier).ruleset;
  const { tables, roles } = schema;
  const counts = [
    [tables.size, "table"],
    [roles.size, "role"],
    [groups.size, "group"],
    [new Set(rules.map(({ address }) => address)).size, "rule"],
  ] as const;
  return {
    title,
    summary: `${counts.map(([count, word]) => `${count} ${word}${count === 1 ? "" : "s"}`).join(", ")}. ${howToRead}`,
    picture: roles.size + groups.size === 0 ? undefined : drawRoles([...roles.values()], [...groups.values()]),
    everybody: byTable(rules.filter(isForRelations), (rule) => sayWithOrigin(rule, rules, schema)),
    roles: [...roles.values()].map((role) => {
      const shown = screens.size === 0 ? [] : portier.sessionForRoles([role.name], { request }).screens();
      return roleReport(role, rules, lines, shown, schema);
    }),
    groups: [...groups.values()].map((group) => groupReport(group, rules, lines, schema)),
    screens: [...screens.values()].map(screenReport),
    tables: [...tables.values()].map((table) => tableReport(portier, table, rules)),
    byRole: accessMatrix(portier, roleViewers(portier, { request })),
    byPeople: people.length === 0 ? [] : accessMatrix(portier, people, { ...(records && { records }) }),
  };
}

/** Whether a permit is for somebody who is named by no role or group. */
function isForRelations({ effect, to }: Rule): boolean {
  return effect.name === "permit" && to.some(({ kind }) => kind !== "member");
}

function byTable(rules: readonly Rule[], say: (rule: Rule) => string): TableSentences[] {
  const tables = new Map<Table, Sentence[]>();
  for (const rule of rules) {
    const sentences = tables.get(rule.table) ?? [];
    sentences.push({ rule: rule.address, text: say(rule), note: rule.note });
    tables.set(rule.table, sentences);
  }
  return [...tables].map(([{ name, label }, sentences]) => ({ table: name, label, sentences }));
}

function screenReport({ name, note, needs, to, within, home }: Screen): ScreenReport {
  const facts = [
    ...(within === undefined ? [] : [`a part of ${within}`]),
    ...(to.length === 0 ? [] : [`for ${listed(to, "or")}`]),
    ...(needs.length === 0 ? [] : [`shown where ${listed(needs.map(({ text }) => text))} is permitted`]),
    ...(home.length === 0 ? [] : [`home of ${listed(home)}`]),
  ];
  return { name, note, facts };
}

type Lines = ReadonlyMap<string, Line>;

/** The names that a rule's `to` has for whom it is for; of a line, that with which it begins. */
function namesOf(who: Who, lines: Lines): string[] {
  return who.kind === "member" ? [lines.get(who.name)?.of ?? who.name] : [];
}

/** A rule in words, and of which one it is a copy. */
function sayWithOrigin(rule: Rule, rules: readonly Rule[], schema: Schema): string {
  return `${sayRule(rule, schema)}${sayOrigin(rule, rules)}`;
}

function sayOrigin(rule: Rule, rules: readonly Rule[]): string {
  const original = rule.copyOf === undefined ? undefined : originalOf(rule, rules);
  return original === undefined ? "" : ` A copy of ${original.address}.`;
}

function roleReport(
  role: Role,
  rules: readonly Rule[],
  lines: Lines,
  shown: readonly string[],
  schema: Schema,
): RoleReport {
  const { name, note, scope, closure, exclusive, minHolders, assignableBy } = role;
  const others = [...closure].filter((one) => one !== name);
  const assigners = assignableBy.map((assigner) =>
    assigner.ofThis ? `${assigner.name} of the same record` : assigner.name,
  );
  const facts = [
    ...(scope === undefined ? [] : [`held on one record of ${findTable(schema, scope)?.label ?? scope}`]),
    ...(others.length === 0 ? [] : [`includes ${listed(others)}`]),
    ...(assigners.length === 0 ? [] : [`assigned and revoked by ${listed(assigners, "or")}`]),
    ...(exclusive.size === 0 ? [] : [`never together with ${listed([...exclusive], "or")}`]),
    ...(minHolders === 0 ? [] : [`always held by at least ${minHolders}`]),
    ...(shown.length === 0 ? [] : [`sees the screens ${listed(shown)}`]),
  ];
  const through = (rule: Rule) => {
    const named = rule.to.flatMap((who) => [...namesOf(who, lines), ...namesScoped(who.text, closure)]);
    if (named.includes(name)) return "";
    const by = others.find((one) => named.includes(one));
    return by === undefined ? undefined : ` (through ${by})`;
  };
  const own = rules.filter((rule) => through(rule) !== undefined);
  return {
    name,
    note,
    facts,
    may: byTable(own, (rule) => `${sayRoleRule(rule, schema)}${through(rule) ?? ""}.${sayOrigin(rule, rules)}`),
  };
}

/** The role of `ROLE of PATH`, where it is one of some. */
function namesScoped(text: string, roles: ReadonlySet<string>): string[] {
  const [, role = ""] = /^(\S+) of /.exec(text) ?? [];
  return roles.has(role) ? [role] : [];
}

function groupReport(
  { name, note, members, where, without, roles }: Group,
  rules: readonly Rule[],
  lines: Lines,
  schema: Schema,
): GroupReport {
  const used = rules.filter(({ to }) => to.some((who) => namesOf(who, lines).includes(name)));
  const facts = [
    `its members are ${listed(members.map((member) => sayMember(member, schema)))}`,
    ...(where.kind === "truth" ? [] : [`only people of whom ${sayCondition(where, schema)}`]),
    ...(without.length === 0
      ? []
      : [
          `but not ${listed(
            without.map((member) => sayMember(member, schema)),
            "or",
          )}`,
        ]),
    ...(roles.length === 0 ? [] : [`its members hold ${listed(roles)}`]),
    ...(used.length === 0 ? [] : [`named by ${listed([...new Set(used.map(({ address }) => address))])}`]),
  ];
  return { name, note, facts };
}

function sayMember(member: Member, schema: Schema): string {
  switch (member.kind) {
    case "member": {
      const line = readLine(member.name);
      return line === undefined ? `every ${member.name}` : `every ${line.of} and everybody ${sayDistance(line)}`;
    }
    case "person":
      return member.text;
    case "along": {
      const named = member.key.kind === "constant" ? String(member.key.value) : "";
      return `${named} and everybody ${sayDistance(member)}`;
    }
    case "where":
      return `everybody of whom ${sayCondition(member.condition, schema)}`;
    default:
      return member satisfies never;
  }
}

function tableReport(portier: Portier, table: Table, rules: readonly Rule[]): TableReport {
  const { name, label, note, key, owner, actions, grid } = table;
  const { schema } = portier;
  const facts = [
    `identified by ${listed(key.map((field) => field.label))}`,
    ...(owner === undefined ? [] : [`owner: ${sayPath(owner)}`]),
    ...(actions.length === 0 ? [] : [`actions of its own: ${listed(actions)}`]),
    ...(grid === undefined ? [] : [`a grid of the columns ${listed(grid.columns.map((field) => field.label))}`]),
    ...settingFacts(schema.people?.settings, table),
  ];
  const own = rules.filter((rule) => rule.table === table);
  const ranges = keptRanges(portier, name);
  return {
    name,
    label,
    note,
    facts,
    fields: table.fields.map((field) => ({
      name: field.name,
      label: field.label,
      type: field.type.noun,
      note: field.note,
      marks: marksOf(field),
    })),
    sentences: own.map((rule) => ({
      rule: rule.address,
      text: sayWithOrigin(rule, rules, schema),
      note: rule.note,
    })),
    grid: grid === undefined || ranges.length === 0 ? undefined : drawGrid(grid, own),
  };
}

/** What is said of settings per person at the table that holds them, and where they may open something. */
function settingFacts(settings: SettingSource | undefined, table: Table): string[] {
  if (settings === undefined) return [];
  const { settableBy, adds } = settings;
  const setBy = settableBy.length === 0 ? "nobody" : listed(settableBy, "or");
  const opened = adds.get(table.name);
  const names = (fields: Iterable<Field>) => listed([...fields].map(({ label }) => label));
  const seen = [...(opened?.view ?? [])].filter((field) => opened?.edit.has(field) !== true);
  return [
    ...(settings.table === table ? [`sets how far one person may go with one field, by ${setBy}`] : []),
    ...(seen.length === 0 ? [] : [`a setting may open ${names(seen)} to one person, to be viewed`]),
    ...(opened === undefined || opened.edit.size === 0
      ? []
      : [`a setting may open ${names(opened.edit)} to one person, to be edited`]),
  ];
}

function marksOf({ sensitive, computed, generated, lookup, tags }: Field): string[] {
  return [
    ...(sensitive ? ["sensitive"] : []),
    ...(computed && lookup === undefined ? ["computed"] : []),
    ...(generated ? ["filled by the database"] : []),
    ...(lookup === undefined ? [] : [`shown through ${lookup.through.label}`]),
    ...tags,
  ];
}
