import type { Row } from "../conditions/source.js";
import { True } from "../conditions/truth.js";
import { protectAction } from "../rules/actions.js";
import { type CellArea, cellArea, type Rows } from "../rules/cells.js";
import { personEntry } from "../rules/person-entry.js";
import { readProtectionWho } from "../rules/protections.js";
import { type CellRange, columnLetters, parseRange, printRange } from "../rules/ranges.js";
import { instantOf } from "../schema/instant.js";
import { limits } from "../schema/limits.js";
import type { Field, Grid, Table } from "../schema/schema.js";
import { internals } from "../session/internals.js";
import type { StoredWrite } from "../session/overlay.js";
import type { AssignmentContext } from "../session/roles/assignment-context.js";
import { refuse } from "../session/roles/refusal.js";
import { personKey } from "./known-to-assigner.js";
import { type Protection, type ProtectionChange, protectionOf } from "./protections.js";

type ChangeOf<K extends ProtectionChange["kind"]> = Extract<ProtectionChange, { kind: K }>;

/** A protection before and after a change. */
export interface ProtectionWrite {
  readonly table: Table;
  readonly before: Protection | undefined;
  readonly after: Protection | undefined;
}

/** What a change of protections writes, once it is seen that the person may make it. */
export class ProtectionWrites {
  readonly #context: AssignmentContext;

  constructor(context: AssignmentContext) {
    this.#context = context;
  }

  of(change: ProtectionChange): ProtectionWrite {
    switch (change.kind) {
      case "protect":
        return this.#protect(change);
      case "change-protection":
        return this.#change(change);
      case "unprotect": {
        const before = this.#own(change.id);
        return { table: this.#grid(before.table), before, after: undefined };
      }
      default:
        return change satisfies never;
    }
  }

  /** As records of the table in which protections are kept. */
  stored({ before, after }: ProtectionWrite): StoredWrite {
    const row = (one: Protection | undefined) => one && ({ ...one } as Row);
    return { table: this.#kept(), before: row(before), after: row(after) };
  }

  #protect(change: ChangeOf<"protect">): ProtectionWrite {
    const { source, assigner, newId } = this.#context;
    const table = this.#grid(change.table);
    const copied = change.copyOf === undefined ? undefined : this.#find(change.copyOf);
    const after = this.#checked(table, {
      id: newId(),
      table: table.name,
      ranges: list(change.ranges),
      except: list(change.except),
      effect: change.effect ?? copied?.effect ?? "reserve",
      to: change.to === undefined ? (copied?.to ?? [`person ${assigner.person}`]) : list(change.to),
      note: change.note ?? copied?.note ?? null,
      ...this.#period(change.from ?? null, change.until ?? null),
      by: this.#maker(),
      at: assigner.now,
      stamp: newStamp(),
    });
    this.#mustProtect(table, after);
    const count = [...(source.referring?.(this.#kept().name, "table", table.name) ?? [])].length;
    if (count >= limits.protections) refuse("too-large", { what: "protections", limit: limits.protections });
    return { table, before: undefined, after };
  }

  #change(change: ChangeOf<"change-protection">): ProtectionWrite {
    const before = this.#own(change.id);
    const table = this.#grid(before.table);
    const { from = before.from, until = before.until } = change;
    const after = this.#checked(table, {
      ...before,
      ranges: change.ranges === undefined ? before.ranges : list(change.ranges),
      except: change.except === undefined ? before.except : list(change.except ?? undefined),
      effect: change.effect ?? before.effect,
      to: change.to === undefined ? before.to : list(change.to),
      note: change.note === undefined ? before.note : change.note,
      ...this.#period(from, until),
      // It stays its maker's, whomever it names from now on.
      at: this.#context.assigner.now,
      stamp: newStamp(),
    });
    this.#mustProtect(table, after);
    return { table, before, after };
  }

  /** A protection that is this person's to change: they may protect its cells, and it is theirs or names them. */
  #own(id: string): Protection {
    const found = this.#find(id);
    const table = this.#grid(found.table);
    this.#mustProtect(table, found);
    const isTheirs = String(found.by) === this.#context.assigner.person || this.meets(found);
    // Or whoever is kept out could let themselves in.
    if (!isTheirs && found.effect === "reserve") refuse("protected-from-you", { id, by: String(found.by ?? "nobody") });
    return found;
  }

  /** Whether the person is one of those whom a protection names. */
  meets({ to }: Pick<Protection, "to">): boolean {
    return to.some((text) => {
      const key = personEntry(text);
      const isName = readProtectionWho(text, this.#context.opener.ruleset)?.kind === "member";
      return isName ? this.#context.held().of(text) === True : key === this.#context.assigner.person;
    });
  }

  /** What is protected is for those to know who may protect the cells: for others it is not there. */
  #find(id: string): Protection {
    const row = this.#context.source.find(this.#kept().name, id);
    const table = row && this.#context.schema.tables.get(String(row["table"]));
    if (row === undefined || table?.grid?.protections !== true || !this.#mayProtect(table, protectionOf(row)))
      return refuse("no-such-protection", { id });
    return protectionOf(row);
  }

  #maker(): string | number {
    const { people, assigner } = this.#context;
    return people.key.type.base === "integer" ? Number(assigner.person) : assigner.person;
  }

  #kept(): Table {
    return this.#context.kept.protections ?? refuse("no-protections", { table: "", candidates: [] });
  }

  #grid(name: string): Table {
    const { tables } = this.#context.schema;
    const table = tables.get(name);
    if (table?.grid?.protections) return table;
    const candidates = [...tables.values()].filter(({ grid }) => grid?.protections).map((one) => one.name);
    return refuse("no-protections", { table: name, candidates });
  }

  #period(begins: string | null, ends: string | null) {
    const { schema, assigner } = this.#context;
    const [from, until] = [instantOf(schema, "from", begins), instantOf(schema, "until", ends)];
    const begun = from === null || from < assigner.now ? assigner.now : from;
    if (until !== null && until <= begun) refuse("period-is-over", { what: "the protection" });
    return { from, until };
  }

  #checked(table: Table, protection: Protection): Protection {
    const { ranges, except, to } = protection;
    const grid = table.grid ?? refuse("no-protections", { table: table.name, candidates: [] });
    if (ranges.length === 0) refuse("no-cells", {});
    if (ranges.length + (except ?? []).length > limits.rangesOfProtection)
      refuse("too-large", { what: "ranges of a protection", limit: limits.rangesOfProtection });
    const last = grid.columns.length;
    const written = (text: string): string => {
      const range = parseRange(text) ?? refuse("bad-range", { found: text, names: [] });
      const isOpen = range.right === Number.POSITIVE_INFINITY;
      if (!isOpen && range.right > last) refuse("range-outside", { found: text, last: columnLetters(last) });
      return printRange(range);
    };
    const names = new Set(to.map((text) => this.#entry(text)));
    return {
      ...protection,
      ranges: ranges.map(written),
      except: except === null || except.length === 0 ? null : except.map(written),
      to: [...names],
    };
  }

  /** One of those whom it names, as it is kept. */
  #entry(text: string): string {
    const { ruleset } = this.#context.opener;
    const trimmed = text.trim();
    const key = personEntry(trimmed);
    if (key !== undefined) return `person ${personKey(this.#context, key)}`;
    if (readProtectionWho(trimmed, ruleset) !== undefined) return trimmed;
    const role = ruleset.schema.roles.get(trimmed);
    if (role?.scope !== undefined) return refuse("scoped-role", { role: trimmed, scope: role.scope });
    const global = [...ruleset.schema.roles.values()]
      .filter(({ scope }) => scope === undefined)
      .map(({ name }) => name);
    return refuse("unknown-who", { name: trimmed, candidates: ["person KEY", ...global, ...ruleset.groups.keys()] });
  }

  #mustProtect(table: Table, { ranges, except }: Protection): void {
    const outside = firstOutside(this.#context, table, areaOf(table, ranges, except ?? []));
    if (outside !== undefined) refuse("may-not-protect", { table: table.name, cell: outside });
  }

  #mayProtect(table: Table, { ranges, except }: Protection): boolean {
    return firstOutside(this.#context, table, areaOf(table, ranges, except ?? [])) === undefined;
  }
}

/**
 * Whatever ranges say; those that cannot be read cover all, so that only who may protect all touches them. One that is open
 * for columns that are added later is as if it covered the last one there is.
 */
export function areaOf(table: Table, ranges: readonly string[], except: readonly string[]): CellArea {
  const grid = table.grid as Grid;
  const last = Math.max(1, grid.columns.length);
  const all: CellRange = { left: 1, right: Number.POSITIVE_INFINITY, top: 1, bottom: Number.POSITIVE_INFINITY };
  const covered = ranges.map((text) => {
    const range = parseRange(text) ?? all;
    return range.right === Number.POSITIVE_INFINITY ? { ...range, left: Math.min(range.left, last) } : range;
  });
  return cellArea(
    grid,
    covered,
    except.flatMap((text) => parseRange(text) ?? []),
  );
}

/**
 * The first cell of an area that the person may not protect, in A1 notation; undefined where they may protect all of them. It
 * is asked of each stretch of rows in which the same rules count: who may protect asks nothing of what stands there.
 */
function firstOutside(context: AssignmentContext, table: Table, area: CellArea): string | undefined {
  const { plan, reading } = internals(context.session);
  const { grid } = table;
  if (grid === undefined) return "A1";
  const own = plan.of(table.name);
  for (const [field, rows] of area.rowsOf) {
    const gate = own.fields(protectAction).of(field);
    const borders = new Set(gate.placed.flatMap(({ rows: placed }) => (placed ?? []).flatMap(bordersOf)));
    for (const one of rows) {
      const asked = [one.from, ...[...borders].filter((row) => row > one.from && row <= one.to)].sort((a, b) => a - b);
      const refused = asked.find((row) => !gate.decide(placeAt(grid.position, row), reading).permitted);
      if (refused !== undefined) return `${columnLetters(grid.columns.indexOf(field) + 1)}${refused}`;
    }
  }
  return undefined;
}

function bordersOf({ from, to }: Rows): number[] {
  return Number.isFinite(to) ? [from, to + 1] : [from];
}

function placeAt(position: Field, row: number): Row {
  return { [position.name]: row };
}

/** Whether every cell of one area is in another. */
export function coversAll(area: CellArea, other: CellArea): boolean {
  return [...other.rowsOf].every(([field, rows]) => {
    const own = area.rowsOf.get(field) ?? [];
    return rows.every(({ from, to }) => own.some((one) => one.from <= from && to <= one.to));
  });
}

function list(given: string | readonly string[] | undefined): readonly string[] {
  if (given === undefined) return [];
  return typeof given === "string" ? [given] : given;
}

/** 36 bits: a sum over the most protections there may be is still an exact number everywhere. */
export function newStamp(): number {
  const { crypto } = globalThis as unknown as { readonly crypto: { getRandomValues(of: Uint32Array): Uint32Array } };
  const [low = 0, high = 0] = crypto.getRandomValues(new Uint32Array(2));
  return low + (high & 15) * 2 ** 32;
}
