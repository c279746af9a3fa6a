import { type Portier, PortierError, type Problem, type Row } from "portier";
import { editText } from "portier/document";
import { explain } from "portier/explain";
import { addRange } from "portier/ranges";
import {
  copyRole,
  copyRule,
  explanationWords,
  groupMatrix,
  parsePlaced,
  proposeExpectations,
  recordKey,
  recordView,
  ruleDifferences,
} from "portier/tooling";
import { accessMatrix, diffAccess, groupViewers, lint, roleViewers, type Viewer } from "portier/verify";
import { membershipsOf } from "./memberships.js";
import { overviewOf } from "./overview.js";
import { type Standing, standingOf } from "./project.js";
import type {
  Addition,
  CoveredRule,
  Differences,
  Draft,
  InspectorApi,
  MatrixLine,
  Memberships,
  OpenedFile,
  Overview,
  ProjectState,
  Remark,
  Seen,
  Tested,
  ViewQuestion,
  WhyQuestion,
} from "./protocol.js";
import { coverageUnder, testUnder } from "./testing.js";

/** Which records of a table one looks at, in their order, for one question. */
interface Looked {
  readonly key: string;
  readonly indexes: Uint32Array;
  readonly exist: readonly number[];
}

/** Answers from the public library, kept between questions where they are asked again. */
export class Inspector implements InspectorApi {
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
      return {
        overview: this.#overview(),
        remarks: error.problems.map((one) => remarkOf("error", one)),
        compiles: false,
      };
    }
    this.#looked = undefined;
    this.#places.clear();
    return { overview: this.#overview(), remarks: [], compiles: true };
  }

  saved(): void {
    this.#saved = this.#standing;
  }

  warnings(): readonly Remark[] {
    const { portier, data, locate, request } = this.#now();
    const now = typeof request["now"] === "string" ? { now: request["now"] } : {};
    const found = lint(portier, { ...(data.tables.size === 0 ? {} : { data }), ...now });
    return found.map((warning) => remarkOf("warning", { ...warning, ...locate(warning.path, warning.offset) }));
  }

  see(question: ViewQuestion): Seen {
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
    const { name, session } = this.#eye(eye);
    const person = name.replace(/^A /, "a ");
    return explanationWords(
      explain(session, { action, table, record, field }),
      person,
      `${table}${key === undefined ? "" : `/${key}`}`,
    );
  }

  matrix(of: "people" | "roles" | "groups"): readonly MatrixLine[] {
    const { portier, data, viewers, request } = this.#now();
    const whole =
      of === "people"
        ? accessMatrix(portier, viewers, { records: data.tables })
        : accessMatrix(portier, (of === "roles" ? roleViewers : groupViewers)(portier, { request }));
    return groupMatrix(whole).map(({ viewers: alike, rows }) => ({
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
      people: diffAccess(before.viewers, after.viewers, (table) => after.data.tables.get(table) ?? []),
      rules: ruleDifferences(viewersOf(before), viewersOf(after)),
    };
  }

  memberships(): Memberships {
    return membershipsOf(this.#now());
  }

  test(files: readonly Pick<OpenedFile, "name" | "text">[]): Tested {
    return testUnder(this.#now(), files);
  }

  coverage(files: readonly Pick<OpenedFile, "name" | "text">[]): readonly CoveredRule[] {
    return coverageUnder(this.#now(), files);
  }

  propose({ eye, table, key }: Omit<WhyQuestion, "action" | "field">) {
    const { portier, data } = this.#now();
    const rows = key === undefined ? (data.tables.get(table) ?? []) : [this.#recordOf(table, key)];
    const [group] = proposeExpectations(portier, [this.#eye(eye)], (name) => (name === table ? rows : []));
    const on = key === undefined ? table : `${table}/${key}`;
    const found = group?.proposals.find((one) => one.on === on);
    if (found === undefined) throw new Error("there is nothing to add");
    return found;
  }

  withExpectation(text: string, proposal: { readonly as: string }): string {
    if (text.trim() === "") return editText("expectations:\n  - {}\n", { expectations: [proposal] });
    const value = parsePlaced(text, {}).value as { readonly expectations?: readonly unknown[] };
    return editText(text, { ...value, expectations: [...(value.expectations ?? []), proposal] });
  }

  add(addition: Addition): string {
    const { document, text } = this.#now();
    if (text !== this.#text) throw new Error("the rules have errors: fix them first");
    if (addition.kind === "rule") return editText(text, copyRule(document, addition.address, addition.copy));
    if (addition.kind === "role") return editText(text, copyRole(document, addition.role, addition.name));
    return editText(text, addRange(document, addition.table, addition.range));
  }

  #now(): Standing {
    if (this.#standing === undefined) throw new Error("the rules have errors: fix them first");
    return this.#standing;
  }

  #overview(): Overview | undefined {
    return this.#standing && overviewOf(this.#standing);
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
  #look({ table, eyes: ids, show, search }: ViewQuestion, rows: readonly Row[], eyes: readonly Viewer[]): Looked {
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

function remarkOf(kind: Remark["kind"], { code, message, hint, line, column }: Problem): Remark {
  return {
    kind,
    code,
    message,
    ...(hint === undefined ? {} : { hint }),
    ...(line === undefined ? {} : { line }),
    ...(column === undefined ? {} : { column }),
  };
}
