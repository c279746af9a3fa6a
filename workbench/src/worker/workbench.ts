import { type ActionName, type Portier, PortierError, type Problem, type Row } from "portier";
import { copyRole, copyRule, editText, parsePlaced, recordKey } from "portier/document";
import { explain, explanationWords, wayText } from "portier/explain";
import { addRange, columnLetters, keptRanges } from "portier/ranges";
import { makeReport } from "portier/report";
import {
  accessMatrix,
  coverageOf,
  type ExpectationData,
  everybodysDifference,
  foldMatrix,
  groupViewers,
  lint,
  membersOf,
  notExercised,
  proposeExpectations,
  readExpectations,
  recordView,
  roleViewers,
  ruleDifferences,
  runExpectations,
  type Viewer,
} from "portier/verify";
import { groupBy } from "../group-by.js";
import type {
  Addition,
  Bench,
  Differences,
  Draft,
  LineOf,
  MatrixLine,
  Memberships,
  OpenedFile,
  Overview,
  ProjectState,
  Remark,
  Seen,
  SeeQuestion,
  TableShape,
  Tested,
  WhyQuestion,
} from "./bench.js";
import { type Standing, standingOf } from "./project.js";

/** Which records of a table one looks at, in their order, for one question. */
interface Looked {
  readonly key: string;
  readonly indexes: Uint32Array;
  readonly exist: readonly number[];
}

/** Answers from the public library, kept between questions where they are asked again. */
export class Workbench implements Bench {
  #project: ProjectState | undefined;
  /** What drafts are compared with. */
  #saved: Standing | undefined;
  /** The last draft that compiled. */
  #standing: Standing | undefined;
  /** What is written now, whether it compiles or not. */
  #text = "";
  #looked: Looked | undefined;
  readonly #places = new Map<string, ReadonlyMap<string, Row>>();

  open(project: ProjectState): Draft {
    this.#project = project;
    this.#saved = undefined;
    this.#standing = undefined;
    const draft = this.draft(project.document.text);
    this.#saved = this.#standing;
    return draft;
  }

  draft(text: string): Draft {
    const project = this.#project;
    if (project === undefined) throw new Error("no project is open");
    this.#text = text;
    try {
      this.#standing = standingOf(text, project, this.#standing);
    } catch (error) {
      if (!(error instanceof PortierError)) throw error;
      return { overview: this.#overview(), remarks: error.problems.map(asError), compiles: false };
    }
    this.#looked = undefined;
    this.#places.clear();
    return { overview: this.#overview(), remarks: [], compiles: true };
  }

  saved(): void {
    this.#saved = this.#standing;
  }

  doubts(): readonly Remark[] {
    const { portier, data, locate, request } = this.#now();
    const now = typeof request["now"] === "string" ? { now: request["now"] } : {};
    const found = lint(portier, { ...(data.tables.size === 0 ? {} : { data }), ...now });
    return found.map(({ code, message, hint, path, offset }): Remark => {
      const { line, column } = locate(path, offset);
      return {
        kind: "doubt",
        code,
        message,
        ...(hint === undefined ? {} : { hint }),
        ...(line === undefined ? {} : { line }),
        ...(column === undefined ? {} : { column }),
      };
    });
  }

  see(question: SeeQuestion): Seen {
    const { portier, data } = this.#now();
    const table = tableOf(portier, question.table);
    const rows = data.tables.get(table.name) ?? [];
    const eyes = question.eyes.map((id) => this.#eye(id));
    const { indexes, exist } = this.#look(question, rows, eyes);
    const records = [...indexes.subarray(question.first, question.first + question.count)].map((index) => {
      const row = rows[index] as Row;
      return {
        key: recordKey(table, row),
        views: eyes.map(({ session }) => recordView(session, table, row)?.cells ?? null),
      };
    });
    return { total: indexes.length, exist, stored: rows.length, first: question.first, records };
  }

  why({ eye, table, key, field, action }: WhyQuestion) {
    const record = key === undefined ? undefined : this.#recordOf(table, key);
    return explanationWords(explain(this.#eye(eye).session, { action, table, record, field }));
  }

  matrix(of: "people" | "roles" | "groups"): readonly MatrixLine[] {
    const { portier, data, viewers, request } = this.#now();
    const whole =
      of === "people"
        ? accessMatrix(portier, viewers, { records: data.tables })
        : accessMatrix(portier, (of === "roles" ? roleViewers : groupViewers)(portier, { request }));
    return foldMatrix(whole).map(({ viewers: alike, rows }) => ({
      who: alike.map(({ id, name }) => ({ id, name })),
      roles: alike[0]?.roles ?? [],
      cells: rows.flatMap(({ table, cells }) =>
        [...cells].map(([action, { reach, count }]) => ({ table, action, reach, count })),
      ),
    }));
  }

  differences(): Differences {
    const [before, after] = [this.#saved, this.#now()];
    if (before === undefined || before === after) return { people: [], rules: [] };
    const viewersOf = ({ portier, request }: Standing) => roleViewers(portier, { request });
    return {
      people: everybodysDifference(before.viewers, after.viewers, (table) => after.data.tables.get(table) ?? []),
      rules: ruleDifferences(viewersOf(before), viewersOf(after)),
    };
  }

  memberships(): Memberships {
    const { portier, viewers } = this.#now();
    const persons = viewers.filter(({ kind }) => kind === "person");
    const report = makeReport(portier, { title: "" });
    const members = (name: string) =>
      membersOf(portier, persons, name).map(({ person, isCertain, ways }) => ({
        id: person.id,
        name: person.name,
        ways: isCertain ? ways.map((way) => wayText(portier.schema, way)) : ["not known: their record leaves it open"],
      }));
    const roles = report.roles.map(({ name, note, facts, may }) => ({
      name,
      kind: "role" as const,
      note,
      facts,
      sentences: may.flatMap(({ table, sentences }) => sentences.map(({ text }) => `${table}: ${text}`)),
      members: members(name),
    }));
    const groups = report.groups.map(({ name, note, facts }) => ({
      name,
      kind: "group" as const,
      note,
      facts,
      sentences: [],
      members: members(name),
    }));
    return { picture: report.picture, names: [...roles, ...groups], line: this.#managerLine() };
  }

  test(files: readonly Pick<OpenedFile, "name" | "text">[]): Tested {
    const { read, problems } = this.#read(files);
    const results = read.flatMap(({ name: file, placed, expectations }) =>
      runExpectations(this.#now().portier, expectations, this.#asked()).map(({ path, ...result }) => ({
        ...result,
        file,
        line: placed.locate(path).line,
      })),
    );
    return { results, problems };
  }

  coverage(files: readonly Pick<OpenedFile, "name" | "text">[]) {
    const { portier, locate } = this.#now();
    const expectations = this.#read(files).read.flatMap((one) => one.expectations);
    return coverageOf(portier, expectations, this.#asked()).map((rule) => ({
      rule: rule.rule,
      open: notExercised(rule),
      line: locate(rule.path).line,
    }));
  }

  #asked(): ExpectationData {
    const { data, request } = this.#now();
    return { source: data.source, records: (table) => data.tables.get(table) ?? [], options: { request } };
  }

  #read(files: readonly Pick<OpenedFile, "name" | "text">[]) {
    const { portier } = this.#now();
    const problems: string[] = [];
    const read = files
      .filter(({ text }) => text.trim() !== "")
      .flatMap(({ name, text }) => {
        try {
          const placed = parsePlaced(text, { file: name });
          return [{ name, placed, expectations: readExpectations(portier, placed.value, placed.locate) }];
        } catch (error) {
          if (!(error instanceof PortierError)) throw error;
          problems.push(...error.problems.map(saidAtPlace));
          return [];
        }
      });
    return { read, problems };
  }

  propose({ eye, table, key }: Omit<WhyQuestion, "action" | "field">) {
    const { portier, data } = this.#now();
    const rows = key === undefined ? (data.tables.get(table) ?? []) : [this.#recordOf(table, key)];
    const [group] = proposeExpectations(portier, [this.#eye(eye)], (name) => (name === table ? rows : []));
    const on = key === undefined ? table : `${table}/${key}`;
    const found = group?.proposals.find((one) => one.on === on);
    if (found === undefined) throw new Error("there is nothing to keep");
    return found;
  }

  withExpectation(text: string, proposal: { readonly as: string }): string {
    if (text.trim() === "") return editText("expectations:\n  - {}\n", { expectations: [proposal] } as never);
    const value = parsePlaced(text, {}).value as { readonly expectations?: readonly unknown[] };
    return editText(text, { ...value, expectations: [...(value.expectations ?? []), proposal] } as never);
  }

  add(addition: Addition): string {
    const { document, text } = this.#now();
    if (text !== this.#text) throw new Error("the rules have errors: mend them first");
    if (addition.kind === "rule") return editText(text, copyRule(document, addition.address, addition.copy));
    if (addition.kind === "role") return editText(text, copyRole(document, addition.role, addition.name));
    return editText(text, addRange(document, addition.table, addition.range));
  }

  #now(): Standing {
    if (this.#standing === undefined) throw new Error("the rules have errors: mend them first");
    return this.#standing;
  }

  #overview(): Overview | undefined {
    const standing = this.#standing;
    if (standing === undefined) return undefined;
    const { portier, data, viewers, trouble } = standing;
    const report = makeReport(portier, { title: "" });
    const rulesOf = new Map(report.tables.map(({ name, sentences }) => [name, sentences.map(({ rule }) => rule)]));
    const tables = [...portier.schema.tables.values()].map((table): TableShape => {
      const ranged = new Set(keptRanges(portier, table.name).map(({ rule }) => rule));
      return {
        name: table.name,
        count: data.tables.get(table.name)?.length ?? 0,
        actions: ["list", "view", "create", "edit", "delete", ...(table.actions as readonly ActionName[])],
        fields: table.fields.map((field) => {
          const column = table.grid?.columns.indexOf(field) ?? -1;
          const { name, type, sensitive } = field;
          return { name, type: type.name, sensitive, column: column < 0 ? undefined : columnLetters(column + 1) };
        }),
        rules: [...new Set(rulesOf.get(table.name) ?? [])].map((address) => ({ address, cells: ranged.has(address) })),
      };
    });
    return {
      tables,
      eyes: viewers.map(({ id, name, kind, roles }) => ({ id, name: kind === "visitor" ? "A visitor" : name, roles })),
      roles: [...portier.schema.roles.keys()],
      groups: report.groups.map(({ name }) => name),
      trouble,
    };
  }

  #eye(id: string): Viewer {
    const { viewers } = this.#now();
    const found = viewers.find((viewer) => viewer.id === id) ?? viewers[0];
    if (found === undefined) throw new Error("there is nobody to look as");
    return found;
  }

  #recordOf(tableName: string, key: string): Row {
    const { portier, data } = this.#now();
    const table = tableOf(portier, tableName);
    const known =
      this.#places.get(tableName) ??
      new Map((data.tables.get(tableName) ?? []).map((row) => [recordKey(table, row), row]));
    this.#places.set(tableName, known);
    const found = known.get(key);
    if (found === undefined) throw new Error(`there is no ${tableName}/${key}`);
    return found;
  }

  /** The records that are looked at; worked out once for as long as only the scrolling differs. */
  #look({ table, eyes: ids, show, search }: SeeQuestion, rows: readonly Row[], eyes: readonly Viewer[]): Looked {
    const key = JSON.stringify([table, ids, show, search]);
    if (this.#looked?.key === key) return this.#looked;
    const { portier } = this.#now();
    const shape = tableOf(portier, table);
    const exist = eyes.map(() => 0);
    const term = search.trim().toLowerCase();
    const indexes: number[] = [];
    for (const [index, row] of rows.entries()) {
      const seen = eyes.map(({ session }) => session.may("list", table, row) || session.may("view", table, row));
      for (const [at, isThere] of seen.entries()) if (isThere) exist[at] = (exist[at] ?? 0) + 1;
      if (show !== "all" && !seen.includes(true)) continue;
      if (term !== "" && !Object.values(row).some((value) => textOf(value).toLowerCase().includes(term))) continue;
      if (show === "differing" && isAlike(eyes.map(({ session }) => recordView(session, shape, row)))) continue;
      indexes.push(index);
    }
    this.#looked = { key, indexes: Uint32Array.from(indexes), exist };
    return this.#looked;
  }

  #managerLine(): readonly LineOf[] {
    const { portier, data } = this.#now();
    const { people } = portier.schema;
    const [key] = people?.table.key ?? [];
    if (people?.manager === undefined || key === undefined) return [];
    const rows = data.tables.get(people.table.name) ?? [];
    const { name: managerField } = people.manager;
    const nameOf = (row: Row) => String(people.name === undefined ? row[key.name] : row[people.name.name]);
    const below = groupBy(rows, (row) => String(row[managerField] ?? ""));
    const known = new Set(rows.map((row) => String(row[key.name])));
    const told = new Set<string>();
    const line = (row: Row): LineOf[] => {
      const id = String(row[key.name]);
      // Lines that lead in a circle are told once.
      if (told.has(id)) return [];
      told.add(id);
      return [{ id, name: nameOf(row), below: (below.get(id) ?? []).flatMap(line) }];
    };
    const tops = rows.filter((row) => !known.has(String(row[managerField] ?? "")));
    return [...tops.flatMap(line), ...rows.flatMap(line)];
  }
}

function tableOf({ schema }: Portier, name: string) {
  const table = schema.tables.get(name);
  if (table === undefined) throw new Error(`there is no table "${name}" any more`);
  return table;
}

function textOf(value: unknown): string {
  return value === null || value === undefined ? "" : typeof value === "object" ? JSON.stringify(value) : String(value);
}

function isAlike(views: readonly unknown[]): boolean {
  return new Set(views.map((view) => JSON.stringify(view ?? null))).size <= 1;
}

function asError({ code, message, hint, line, column }: Problem): Remark {
  return {
    kind: "error",
    code,
    message,
    ...(hint === undefined ? {} : { hint }),
    ...(line === undefined ? {} : { line }),
    ...(column === undefined ? {} : { column }),
  };
}

function saidAtPlace({ file, line, message, hint }: Problem): string {
  return `${file}:${line}: ${message}${hint === undefined ? "" : `; ${hint}`}`;
}
